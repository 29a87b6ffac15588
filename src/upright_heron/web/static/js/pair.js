import * as THREE from 'three';
import { LayerCap } from './layer-cap.js';

/**
 * @typedef {object} Standing  one stance of the part
 * @property {string} letter
 * @property {number[]} rotation  nine numbers, row by row
 * @property {number} lift  mm
 * @property {number[]} size  mm, in this stance
 * @property {import('./blocks.js').LayersData} layers
 */

/** Two stances of one part side by side, turned together and cut in step. */
export class Pair {
  /** @param {import('./part.js').PartBody} part @param {Standing} left @param {Standing} right */
  constructor(part, left, right) {
    this.group = new THREE.Group();
    const gap = 0.15 * Math.max(left.size[0], right.size[0]);
    this.sides = [left, right].map((standing, k) => {
      const x = (k ? 1 : -1) * (standing.size[0] / 2 + gap / 2);
      const plane = new THREE.Plane(new THREE.Vector3(0, 0, -1), 1e6);
      const body = new THREE.Mesh(part.geometry, new THREE.MeshLambertMaterial({ color: k ? '#a9a08c' : '#93a7b2', side: part.material.side, clippingPlanes: [plane] }));
      body.matrixAutoUpdate = false;
      body.matrix.copy(part.placing(new THREE.Matrix3().fromArray(standing.rotation).transpose(), standing.lift, [x, 0]).matrix);
      const cap = new LayerCap(k ? '#eadfca' : '#dbe7ec', k ? '#6d5f3f' : '#2f5d73');
      cap.group.position.x = x;
      this.group.add(body, cap.group);
      return { standing, plane, body, cap, x };
    });
    this.size = [left.size[0] + right.size[0] + gap, Math.max(left.size[1], right.size[1]), Math.max(left.size[2], right.size[2])];
  }

  /** Tags with the letters, above each. */
  get tags() {
    return this.sides.map(({ standing, x }) => ({ text: standing.letter, kind: 'piece', at: [x, 0, standing.lift + standing.size[2] * 1.08] }));
  }

  /**
   * Cut both at a layer each.
   * @param {(number | null)[]} layers  number of the layer of each side; null shows it whole
   */
  cutAt(layers) {
    this.shown = layers;
    this.sides.forEach(({ standing, plane, cap }, k) => {
      const index = layers[k];
      const { layer, base } = standing.layers;
      const z = base + ((index ?? 0) + 0.5) * layer;
      plane.constant = index === null ? 1e6 : z;
      cap.show(index === null ? null : standing.layers, index ?? -1, z);
    });
  }

  dispose() {
    for (const { body, cap } of this.sides) {
      body.material.dispose();
      cap.dispose();
    }
    this.group.removeFromParent();
  }
}

/**
 * Layers that belong together when two stances are walked in step.
 * @param {Standing} left @param {Standing} right
 * @param {'height' | 'share'} by  the same height above the plate, or the same share of their heights
 * @returns {{z: number, layers: (number | null)[]}[]}  from the plate up; z is that of the left, or of the taller
 */
export function inStep(left, right, by) {
  const [a, b] = [left.layers, right.layers];
  if (by === 'share') {
    const longer = Math.max(a.count, b.count);
    return Array.from({ length: longer }, (_, k) => {
      const share = (k + 0.5) / longer;
      const layers = [a, b].map((s) => Math.min(s.count - 1, Math.floor(share * s.count)));
      return { z: a.base + (layers[0] + 0.5) * a.layer, layers };
    });
  }
  const top = Math.max(a.base + a.count * a.layer, b.base + b.count * b.layer);
  const count = Math.round(top / a.layer);
  return Array.from({ length: count }, (_, k) => {
    const z = (k + 0.5) * a.layer;
    const at = (s) => Math.floor((z - s.base) / s.layer + 1e-6);
    return { z, layers: [a, b].map((s) => (at(s) < 0 ? -1 : at(s) >= s.count ? null : at(s))) };
  });
}
