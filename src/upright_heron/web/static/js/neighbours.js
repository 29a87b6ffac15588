import * as THREE from 'three';
import { fetchBlock, readMesh, readShell } from './blocks.js';
import { facetGeometry } from './frusta.js';
import { placing } from './part.js';

/** No more facets than these are drawn of what stands beside the item. */
const MOST = 4e6;
const COLOURS = { part: '#b7c3ca', supports: '#c08a66', footing: '#e3c3aa' };

/** @typedef {{mesh: string, facets: number, rotation: number[], lift: number, raise: number, supports: string | null, footing: string | null}} Body */
/** @typedef {{item: string, copy: number, x: number, y: number, swing: number}} Standing */

/** What else stands on the plate of the item that is looked at: each item once, drawn as often as it stands there. */
export class Neighbours {
  /** @param {THREE.Plane[]} planes  what cuts the part cuts these too */
  constructor(planes) {
    this.group = new THREE.Group();
    this.group.visible = false;
    this.turn = 0;
    this.materials = Object.fromEntries(Object.entries(COLOURS).map(([name, color]) => [
      name, new THREE.MeshLambertMaterial({ color, emissive: color, emissiveIntensity: 0.12, flatShading: true, clippingPlanes: planes, side: THREE.DoubleSide }),
    ]));
  }

  /** Draw none. */
  clear() {
    this.turn += 1;
    for (const mesh of /** @type {THREE.InstancedMesh[]} */ ([...this.group.children])) {
      mesh.geometry.dispose();
      mesh.dispose();
    }
    this.group.clear();
    this.group.visible = false;
  }

  /**
   * Draw what stands on a plate.
   * @param {Record<string, Body>} bodies @param {Standing[]} standing  all but the one that is looked at
   * @returns {Promise<number>}  how many are left out, as they have too many facets
   */
  async show(bodies, standing) {
    this.clear();
    const turn = this.turn;
    this.group.visible = true;
    let facets = 0, left = 0;
    for (const [item, body] of Object.entries(bodies)) {
      const here = standing.filter((one) => one.item === item);
      if (!here.length) continue;
      facets += body.facets * here.length;
      if (facets > MOST) {
        left += here.length;
        continue;
      }
      const [mesh, supports, footing] = await Promise.all([
        fetchBlock(`/api/blocks/meshes/${body.mesh}`).then(readMesh),
        body.supports && fetchBlock(`/api/blocks/supports/${body.supports}`).then(readShell),
        body.footing && fetchBlock(`/api/blocks/footing/${body.footing}`).then(readMesh),
      ]);
      if (turn !== this.turn) return left;
      const rotation = new THREE.Matrix3().fromArray(body.rotation).transpose();
      this.#add('part', mesh, here, placing(mesh.vertices, rotation, body.lift + body.raise, [0, 0]).matrix);
      this.#add('supports', supports, here, new THREE.Matrix4().makeTranslation(0, 0, body.raise));
      this.#add('footing', footing, here, new THREE.Matrix4());
    }
    return left;
  }

  /**
   * @param {string} what @param {import('./frusta.js').Shell | '' | null} shell @param {Standing[]} here
   * @param {THREE.Matrix4} own  from the frame of the shell to that of its item
   */
  #add(what, shell, here, own) {
    if (!shell) return;
    const many = new THREE.InstancedMesh(facetGeometry(shell), this.materials[what], here.length);
    here.forEach((one, k) => {
      const there = new THREE.Matrix4().makeRotationZ((one.swing * Math.PI) / 180).setPosition(one.x, one.y, 0);
      many.setMatrixAt(k, there.multiply(own));
    });
    many.frustumCulled = false;
    this.group.add(many);
  }
}
