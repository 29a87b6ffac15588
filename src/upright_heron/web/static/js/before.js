import * as THREE from 'three';

/** Moves up to so many mm have one shade. */
const LIMITS = [0.05, 0.3, 1, Infinity];
const SHADES = ['#c9d3d6', '#e3c46b', '#d9822b', '#b3261e'].map((shade) => new THREE.Color(shade));

/** What a part was before it was mended, shown instead of it or beside it. */
export class Before {
  /** @param {import('./view.js').View} view */
  constructor(view) {
    this.view = view;
    /** @type {THREE.Mesh | null} */
    this.body = null;
    this.factors = [1, 1, 1];
    /** @type {THREE.Mesh | null} */
    this.colours = null;
    /** @type {'before' | 'after' | 'both'} */
    this.shown = 'after';
  }

  /**
   * Keep what the part was before it was mended.
   * @param {import('./blocks.js').MeshData | null} data @param {number[]} factors  size, along its axes
   */
  set(data, factors) {
    this.body?.geometry.dispose();
    this.body?.removeFromParent();
    this.body = null;
    if (!data) return;
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute('position', new THREE.BufferAttribute(data.vertices, 3));
    geometry.setIndex(new THREE.BufferAttribute(data.faces, 1));
    // Both sides: it may be open, and the inside shows through its holes.
    this.body = new THREE.Mesh(geometry, new THREE.MeshLambertMaterial({ color: '#b59a7a', flatShading: true, side: THREE.DoubleSide, clippingPlanes: this.view.planes }));
    this.body.matrixAutoUpdate = false;
    this.body.visible = false;
    this.factors = factors;
    this.view.scene.add(this.body);
  }

  /**
   * What moved of the part as it is now, as colours over it; without distances, none.
   * @param {import('./blocks.js').MeshData | null} data  the part @param {Float32Array | null} moved  of each corner, mm
   */
  setMoved(data, moved) {
    this.colours?.geometry.dispose();
    this.colours?.removeFromParent();
    this.colours = null;
    if (!data || !moved || !this.view.part) return;
    const geometry = new THREE.BufferGeometry();
    const shades = new Float32Array(3 * moved.length);
    moved.forEach((mm, i) => SHADES[LIMITS.findIndex((limit) => mm < limit)].toArray(shades, 3 * i));
    geometry.setAttribute('position', new THREE.BufferAttribute(data.vertices, 3));
    geometry.setAttribute('color', new THREE.BufferAttribute(shades, 3));
    geometry.setIndex(new THREE.BufferAttribute(data.faces, 1));
    const material = new THREE.MeshLambertMaterial({ vertexColors: true, flatShading: true, side: THREE.DoubleSide, clippingPlanes: this.view.planes });
    this.colours = new THREE.Mesh(geometry, material);
    this.colours.matrixAutoUpdate = false;
    this.colours.matrix.copy(this.view.part.mesh.matrix);
    this.colours.matrixWorldNeedsUpdate = true;
    this.view.scene.add(this.colours);
    this.view.part.mesh.visible = false;
    this.view.redraw();
  }

  /** @param {'before' | 'after' | 'both'} which */
  show(which) {
    if (!this.view.part) return;
    const shown = Boolean(this.body) && which !== 'after';
    this.view.part.mesh.visible = !(shown && which === 'before') && !this.view.pieces.visible;
    if (this.body) {
      this.body.visible = shown;
      const aside = which === 'both' ? -1.15 * this.view.size[0] : 0;
      this.body.matrix.makeTranslation(aside, 0, 0).multiply(this.view.part.mesh.matrix).scale(new THREE.Vector3(...this.factors));
      this.body.matrixWorldNeedsUpdate = true;
      const tag = (text, x) => ({ text, kind: 'piece', at: [this.view.at[0] + x, this.view.at[1], this.view.size[2] * 1.12] });
      this.view.setTags(which === 'both' ? [tag('before', aside), tag('after', 0)] : shown ? [tag('before', 0)] : []);
      if (which !== this.shown && (which === 'both' || this.shown === 'both')) this.#stepBack(which === 'both' ? aside : 0);
    }
    this.shown = shown ? which : 'after';
    this.view.redraw();
  }

  /** Look from the same side so that something beside the part is seen too. @param {number} aside  mm along x */
  #stepBack(aside) {
    const away = new THREE.Vector3().subVectors(this.view.camera.position, this.view.controls.target);
    const factor = aside ? 1.7 : 1 / 1.7;
    this.view.controls.target.set(this.view.at[0] + aside / 2, this.view.at[1], this.view.size[2] / 2);
    for (const camera of [this.view.perspective, this.view.flat]) camera.position.copy(this.view.controls.target).addScaledVector(away, factor);
    this.view.flat.zoom /= factor;
    this.view.controls.update();
    this.view.resize();
  }
}
