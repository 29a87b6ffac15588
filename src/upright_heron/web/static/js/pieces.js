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
      body.userData = { cell: [...data.cells.slice(3 * n, 3 * n + 3)], number: n + 1, middle: box.getCenter(new THREE.Vector3()), first };
      this.add(body);
    }
    this.pull(this.pulled);
  }

  /** Spread the pieces. @param {number} share  0 together, 1 half a piece apart */
  pull(share) {
    this.pulled = share;
    const bodies = this.children;
    if (!bodies.length) return;
    const box = new THREE.Box3();
    for (let i = 0; i < this.data.vertices.length; i += 3) box.expandByPoint(_point.fromArray(this.data.vertices, i));
    const counts = [0, 1, 2].map((k) => 1 + Math.max(...bodies.map((b) => b.userData.cell[k])));
    const size = box.getSize(new THREE.Vector3()).toArray();
    const middle = box.getCenter(new THREE.Vector3());
    for (const body of bodies) {
      const away = body.userData.cell.map((c, k) => (c - (counts[k] - 1) / 2) * (size[k] / counts[k]) * 0.5 * share);
      body.position.set(away[0] - middle.x, away[1] - middle.y, away[2] - box.min.z);
    }
  }
}
