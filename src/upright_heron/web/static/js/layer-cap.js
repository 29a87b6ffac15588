import * as THREE from 'three';

/** The polygons of one layer, filled and outlined: what the machine will draw there. */
export class LayerCap {
  /** @param {string} fill @param {string} line @param {THREE.Plane[]} [clippingPlanes] */
  constructor(fill, line, clippingPlanes = []) {
    this.surface = new THREE.Mesh(
      new THREE.BufferGeometry(),
      new THREE.MeshBasicMaterial({ color: fill, side: THREE.DoubleSide, polygonOffset: true, polygonOffsetFactor: -1, polygonOffsetUnits: -1, clippingPlanes }),
    );
    this.outline = new THREE.LineSegments(new THREE.BufferGeometry(), new THREE.LineBasicMaterial({ color: line, clippingPlanes }));
    this.group = new THREE.Group();
    this.group.add(this.surface, this.outline);
  }

  /**
   * Show a layer.
   * @param {import('./blocks.js').LayersData | null} layers
   * @param {number} index  layer in the block
   * @param {number} z  height to draw at, mm
   */
  show(layers, index, z) {
    const here = layers && index >= 0 && index < layers.count;
    this.group.visible = Boolean(here);
    if (!here) return;
    const rings = [];
    for (let r = layers.layerStart[index]; r < layers.layerStart[index + 1]; r++) {
      const ring = [];
      for (let i = layers.ringStart[r]; i < layers.ringStart[r + 1]; i++) {
        ring.push(new THREE.Vector2(layers.points[2 * i], layers.points[2 * i + 1]));
      }
      if (ring.length > 2) rings.push(ring);
    }
    const { triangles, lines } = polygons(rings, z);
    replace(this.surface, triangles);
    replace(this.outline, lines);
  }

  dispose() {
    for (const body of [this.surface, this.outline]) {
      body.geometry.dispose();
      body.material.dispose();
    }
  }
}

/** @param {THREE.Mesh | THREE.LineSegments} body @param {number[]} position */
function replace(body, position) {
  body.geometry.dispose();
  body.geometry = new THREE.BufferGeometry();
  body.geometry.setAttribute('position', new THREE.BufferAttribute(new Float32Array(position), 3));
}

/** @param {THREE.Vector2[]} ring @param {THREE.Vector2} p */
function holds(ring, p) {
  let inside = false;
  for (let i = 0, j = ring.length - 1; i < ring.length; j = i++) {
    const [a, b] = [ring[i], ring[j]];
    if (a.y > p.y !== b.y > p.y && p.x < ((b.x - a.x) * (p.y - a.y)) / (b.y - a.y) + a.x) inside = !inside;
  }
  return inside;
}

/** @param {THREE.Vector2[][]} rings @param {number} z */
function polygons(rings, z) {
  const outers = [], holes = [];
  for (const ring of rings) {
    const area = THREE.ShapeUtils.area(ring);
    (area > 0 ? outers : holes).push({ ring, area: Math.abs(area), holes: [] });
  }
  outers.sort((a, b) => a.area - b.area);
  for (const hole of holes) outers.find((o) => o.area > hole.area && holds(o.ring, hole.ring[0]))?.holes.push(hole.ring);
  const triangles = [], lines = [];
  for (const outer of outers) {
    const corners = [outer.ring, ...outer.holes].flat();
    for (const face of THREE.ShapeUtils.triangulateShape(outer.ring, outer.holes)) {
      for (const i of face) triangles.push(corners[i].x, corners[i].y, z);
    }
  }
  for (const ring of rings) {
    for (let i = 0; i < ring.length; i++) {
      const [a, b] = [ring[i], ring[(i + 1) % ring.length]];
      lines.push(a.x, a.y, z, b.x, b.y, z);
    }
  }
  return { triangles, lines };
}
