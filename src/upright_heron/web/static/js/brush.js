import * as THREE from 'three';

/** Pixels between two dabs of a stroke, at most. */
const STEP = 8;
const COLOURS = { prop: '#0d7c76', clear: '#20303a', show: '#b78a10', solid: '#7d3f2c', erase: '#5b6a72' };
/** The byte of each mark, as in the core. */
export const BYTES = { prop: 1, clear: 2, show: 3, solid: 4, erase: 0 };

/** A round brush on the part: paints facets while the pointer is dragged over them. */
export class Brush {
  /** @param {import('./view.js').View} view */
  constructor(view) {
    this.view = view;
    /** @type {'prop' | 'clear' | 'show' | 'solid' | 'erase' | null} */
    this.kind = null;
    /** Diameter, mm. */
    this.size = 6;
    this.through = false;
    /** Told the facets of a stroke when it ends. @type {(kind: string, facets: Uint32Array) => void} */
    this.painted = () => {};
    /** Told the facet that was clicked, where clicks fill. @type {((facet: number) => void) | null} */
    this.clicked = null;
    /** @type {Set<number> | null} */
    this.stroke = null;
    const circle = new THREE.BufferGeometry().setFromPoints(Array.from({ length: 48 }, (_, i) => new THREE.Vector3(Math.cos((i * Math.PI) / 24), Math.sin((i * Math.PI) / 24), 0)));
    this.ring = new THREE.LineLoop(circle, new THREE.LineBasicMaterial({ depthTest: false, transparent: true }));
    this.ring.visible = false;
    this.ring.renderOrder = 6;
    view.scene.add(this.ring);
    const { canvas } = view;
    // Before the controls hear of it: a drag that begins on the part paints, one beside it turns the view.
    canvas.addEventListener('pointerdown', (e) => this.#down(e), { capture: true });
    canvas.addEventListener('pointermove', (e) => this.#move(e));
    canvas.addEventListener('pointerup', () => this.#up());
    canvas.addEventListener('pointercancel', () => this.#up());
    canvas.addEventListener('pointerleave', () => { if (!this.stroke) this.#hide(); });
  }

  /** @param {'prop' | 'clear' | 'show' | 'solid' | 'erase' | null} kind */
  use(kind) {
    this.kind = kind;
    this.view.canvas.classList.toggle('painting', Boolean(kind));
    if (kind) this.ring.material.color.set(COLOURS[kind]);
    else this.#hide();
  }

  #hide() {
    if (!this.ring.visible) return;
    this.ring.visible = false;
    this.view.redraw();
  }

  #down(event) {
    if (!this.kind || event.button !== 0 || !this.view.part) return;
    const hit = this.view.part.hit(this.view.ray(event));
    if (!hit) return;
    this.view.controls.enabled = false;
    if (this.clicked) {
      this.clicked(hit.faceIndex);
      this.view.controls.enabled = true;
      return;
    }
    this.view.canvas.setPointerCapture(event.pointerId);
    this.stroke = new Set();
    this.last = [event.clientX, event.clientY];
    this.dab(event.clientX, event.clientY);
  }

  #move(event) {
    if (!this.kind || !this.view.part) return;
    if (!this.stroke) {
      if (!event.buttons) this.#show(this.view.part.hit(this.view.ray(event)));
      return;
    }
    const [x, y] = this.last;
    const [dx, dy] = [event.clientX - x, event.clientY - y];
    const steps = Math.max(1, Math.ceil(Math.hypot(dx, dy) / STEP));
    for (let i = 1; i <= steps; i++) this.dab(x + (dx * i) / steps, y + (dy * i) / steps);
    this.last = [event.clientX, event.clientY];
  }

  #up() {
    if (!this.stroke) return;
    this.view.controls.enabled = true;
    const facets = Uint32Array.from(this.stroke).sort();
    this.stroke = null;
    if (facets.length) this.painted(this.kind, facets);
  }

  /** One touch of the brush at a place of the page. */
  dab(clientX, clientY) {
    const { part } = this.view;
    const ray = this.view.ray({ clientX, clientY });
    const hit = part.hit(ray);
    this.#show(hit);
    if (hit) {
      const facets = this.through ? part.along(ray, this.size / 2) : part.around(/** @type {{faceIndex: number, point: import('three').Vector3}} */ (hit), this.size / 2, ray);
      const fresh = facets.filter((f) => !this.stroke.has(f));
      for (const f of fresh) this.stroke.add(f);
      part.paint(fresh, BYTES[this.kind]);
      this.view.redraw();
    }
  }

  #show(hit) {
    this.ring.visible = Boolean(hit) && !this.clicked;
    if (this.ring.visible) {
      const { part } = this.view;
      const normal = new THREE.Vector3().fromArray(part.normals, 3 * hit.faceIndex).transformDirection(part.mesh.matrixWorld);
      this.ring.position.copy(hit.point);
      this.ring.quaternion.setFromUnitVectors(new THREE.Vector3(0, 0, 1), normal);
      this.ring.scale.setScalar(this.size / 2);
    }
    this.view.redraw();
  }
}
