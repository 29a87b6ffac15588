import * as THREE from 'three';

/** Muted wheel for the pieces of a split part; the number beside each is the second cue. */
const WHEEL = ['#8aa6b5', '#c2a878', '#9db08a', '#b596a8', '#7fa79c', '#c29a86', '#a3a0bd', '#b3b37d'];

const _point = new THREE.Vector3();

/** The pieces of a part that was cut, pulled apart as far as asked. */
export class Pieces extends THREE.Group {
  /** @type {import('./blocks.js').PiecesData | null} */
  data = null;
  pulled = 0.35;

  /** @param {import('./blocks.js').PiecesData | null} data */
  load(data) {
    for (const child of /** @type {THREE.Mesh[]} */ (this.children)) child.geometry.dispose();
    this.clear();
    this.data = data;
    if (!data) return;
    const all = new THREE.BufferAttribute(data.vertices, 3);
    for (let n = 0; n + 1 < data.faceStart.length; n++) {
      const geometry = new THREE.BufferGeometry();
      geometry.setAttribute('position', all);
      geometry.setIndex(new THREE.BufferAttribute(data.faces.slice(3 * data.faceStart[n], 3 * data.faceStart[n + 1]), 1));
      const body = new THREE.Mesh(geometry, new THREE.MeshLambertMaterial({ color: WHEEL[n % WHEEL.length], flatShading: true }));
      const first = 3 * data.faces[3 * data.faceStart[n]];
      const box = new THREE.Box3();
      for (let i = 3 * data.faceStart[n]; i < 3 * data.faceStart[n + 1]; i++) {
        const v = 3 * data.faces[i];
        box.expandByPoint(_point.set(data.vertices[v], data.vertices[v + 1], data.vertices[v + 2]));
      }
      body.userData = { number: n + 1, middle: box.getCenter(new THREE.Vector3()), first };
      this.add(body);
    }
    this.pull(this.pulled);
  }

  /**
   * Draw the pieces off each other the way they go together.
   * @param {number} share  0 together, 1 all the way apart
   * @param {boolean} stepwise  what was joined last comes off first, and the others after it
   */
  pull(share, stepwise = false) {
    this.pulled = share;
    const bodies = this.children;
    if (!bodies.length) return;
    const box = new THREE.Box3();
    for (let i = 0; i < this.data.vertices.length; i += 3) box.expandByPoint(_point.fromArray(this.data.vertices, i));
    const middle = box.getCenter(new THREE.Vector3());
    const { steps, away, side } = this.data;
    bodies.forEach((body, n) => {
      body.position.set(-middle.x, -middle.y, -box.min.z);
      for (let k = 0; k < steps; k++) {
        const part = stepwise ? Math.min(1, Math.max(0, share * steps - (steps - 1 - k))) : share;
        body.position.addScaledVector(_point.fromArray(away, 3 * k), 0.5 * part * side[k * bodies.length + n]);
      }
    });
  }

  /** Leave a piece out of the view, or show all again. @param {number} number  0 for all @param {boolean} shown */
  show(number, shown) {
    for (const body of this.children) if (!number || body.userData.number === number) body.visible = shown;
  }

  /** Number of the piece that a ray meets first, 0 where it meets none. @param {THREE.Raycaster} raycaster */
  at(raycaster) {
    const [hit] = raycaster.intersectObjects(this.children.filter((body) => body.visible), false);
    return hit ? Number(hit.object.userData.number) : 0;
  }

  /** Light up a piece, and those beside it a little. @param {number} number  0 for none  @param {number[]} beside */
  lightUp(number, beside) {
    for (const body of /** @type {THREE.Mesh[]} */ (this.children)) {
      const glow = body.userData.number === number ? 0x3d5a66 : beside.includes(body.userData.number) ? 0x16242a : 0;
      /** @type {THREE.MeshLambertMaterial} */ (body.material).emissive.setHex(number ? glow : 0);
    }
  }
}
