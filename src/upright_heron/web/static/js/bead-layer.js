import * as THREE from 'three';
import { BEAD_COLOUR, beadUniforms, WAYS } from './bead-colours.js';
import { BeadSection } from './bead-section.js';
import { kindOf } from './blocks.js';

const VERTEX = /* glsl */ `
  attribute vec2 a; attribute vec2 b; attribute vec2 beadA; attribute vec2 beadB; attribute float fast;
  uniform vec2 low; uniform float stepMm; uniform float wideMm; uniform float z; uniform float count;
  varying vec2 vAt; varying vec3 vBead; varying float vKind; varying float vShare; varying float vFast; varying float vNozzle; varying vec2 vPlate;
  void main() {
    vec2 p = low + a * stepMm, q = low + b * stepMm;
    float begins = step(127.5, beadB.y);
    float told = beadB.y - 128.0 * begins;
    vNozzle = step(63.5, told);
    vKind = mod(told, 16.0);
    vFast = fast;
    float ra = 0.5 * wideMm * beadA.x, rb = 0.5 * wideMm * beadB.x;
    // Ways have no width of their own.
    if (vKind > 14.5) ra = rb = 0.06;
    vec2 way = q - p;
    float along = length(way);
    way = along > 1e-6 ? way / along : vec2(1.0, 0.0);
    float r = max(ra, rb);
    // A quad round the bead with its ends; what lies outside them is left out behind.
    vAt = vec2(position.x < 0.0 ? -r : along + r, position.y * r);
    vBead = vec3(along, ra, rb);
    vShare = float(gl_InstanceID) / max(count, 1.0);
    vec2 at = p + way * vAt.x + vec2(-way.y, way.x) * vAt.y;
    vPlate = at;
    gl_Position = begins > 0.5 ? vec4(2.0, 2.0, 2.0, 1.0) : projectionMatrix * modelViewMatrix * vec4(at, z, 1.0);
  }
`;
const FRAGMENT = /* glsl */ `
  ${BEAD_COLOUR}
  uniform float upto; uniform vec3 open;
  varying vec2 vAt; varying vec3 vBead; varying float vKind; varying float vShare; varying float vFast; varying float vNozzle; varying vec2 vPlate;
  void main() {
    int kind = int(vKind + 0.5);
    if (shown[kind] < 0.5 || vShare > upto || dot(vPlate, open.xy) > open.z) discard;
    float t = clamp(vAt.x / max(vBead.x, 1e-6), 0.0, 1.0);
    float r = mix(vBead.y, vBead.z, t);
    float away = length(vec2(vAt.x - t * vBead.x, vAt.y)) / r;
    if (away > 1.0) discard;
    gl_FragColor = vec4(beadColour(kind, r, vFast, vNozzle, vAt.x, away), 1.0);
    #include <colorspace_fragment>
  }
`;

/** The beads of one layer, as wide as they are laid. */
export class BeadLayer {
  /** @param {THREE.Plane[]} planes  that other things are cut at */
  constructor(planes) {
    const shared = beadUniforms();
    this.uniforms = {
      ...shared, low: { value: new THREE.Vector2() }, stepMm: { value: 1 }, z: { value: 0 }, count: { value: 1 }, upto: { value: 1 },
      open: { value: new THREE.Vector3(0, 0, 1) },
    };
    const material = new THREE.ShaderMaterial({ uniforms: this.uniforms, vertexShader: VERTEX, fragmentShader: FRAGMENT, side: THREE.DoubleSide, polygonOffset: true, polygonOffsetFactor: -2, polygonOffsetUnits: -2 });
    this.mesh = new THREE.Mesh(new THREE.BufferGeometry(), material);
    this.mesh.frustumCulled = false;
    this.mesh.visible = false;
    /** Where outer walls begin, in all layers up to the one that is shown. */
    this.seams = new THREE.Points(new THREE.BufferGeometry(), new THREE.PointsMaterial({ color: '#c2307a', size: 6, sizeAttenuation: false, depthTest: true, clippingPlanes: planes }));
    this.seams.frustumCulled = false;
    this.seams.visible = false;
    this.seamsOn = false;
    this.section = new BeadSection(shared);
    /** Where they are cut open, and what of the part lies there. @type {{side: import('./bead-section.js').Side, ground: import('./bead-section.js').Ground} | null} */
    this.cut = null;
    /** @type {Uint8Array | null} speed up to each place */
    this.speeds = null;
    /** Whether beads are shown at all. */
    this.on = false;
    /** @type {import('./blocks.js').PathsData | null} */
    this.data = null;
    this.layer = -1;
  }

  /**
   * Cut all layers open by an upright plane, or by none.
   * @param {import('./bead-section.js').Side | null} side @param {import('./bead-section.js').Ground} ground
   */
  open(side, ground) {
    this.cut = side && { side, ground };
    this.uniforms.open.value.set(side?.away[0] ?? 0, side?.away[1] ?? 0, side?.offset ?? 1);
    this.sectionOf = null;
  }

  /** @param {number | null} layer */
  #showSection(layer) {
    if (this.cut && this.data && layer !== null && !this.sectionOf) {
      this.section.make(this.data, this.speeds, this.cut.side, this.cut.ground);
      this.sectionOf = this.cut;
    }
    this.section.show(this.cut && this.data ? layer : null);
  }

  /** @param {import('./blocks.js').PathsData | null} data */
  load(data) {
    this.data = data;
    this.layer = -1;
    this.speeds = null;
    this.sectionOf = null;
    this.mesh.visible = false;
    if (!data) return;
    this.uniforms.low.value.fromArray(data.low);
    this.uniforms.stepMm.value = data.step;
    this.uniforms.wideMm.value = data.wide;
    this.#findSeams(data);
  }

  /** Tell speeds up to all places. @param {Uint8Array | null} speeds */
  tellSpeeds(speeds) {
    this.speeds = speeds;
    this.layer = -1;
    this.sectionOf = null;
    this.uniforms.fastest.value = Math.max(1, ...this.#levels(speeds));
  }

  /** The speeds that there are, but for the rare ones of travels. @param {Uint8Array | null} speeds */
  #levels(speeds) {
    if (!speeds || !this.data) return [255];
    const counts = new Uint32Array(256);
    for (let i = 0; i < speeds.length; i++) if (!(this.data.beads[2 * i + 1] & 128) && kindOf(this.data.beads[2 * i + 1]) !== WAYS) counts[speeds[i]] += 1;
    return [...counts.keys()].filter((k) => counts[k] > 0);
  }

  /** @param {import('./blocks.js').PathsData} data */
  #findSeams(data) {
    const at = [];
    this.seamStart = new Uint32Array(data.count + 1);
    for (let layer = 0; layer < data.count; layer++) {
      for (let i = data.start[layer]; i < data.start[layer + 1]; i++) {
        // The first place of a path of an outer wall.
        if ((data.beads[2 * i + 1] & 128) && kindOf(data.beads[2 * i + 1]) === 0) at.push(data.low[0] + data.places[2 * i] * data.step, data.low[1] + data.places[2 * i + 1] * data.step, data.tops[layer]);
      }
      this.seamStart[layer + 1] = at.length / 3;
    }
    this.seams.geometry.dispose();
    this.seams.geometry = new THREE.BufferGeometry();
    this.seams.geometry.setAttribute('position', new THREE.BufferAttribute(new Float32Array(at), 3));
  }

  /**
   * Show the layer that a height lies in, a little over what else is drawn there; or none.
   * @param {number | null} z mm
   */
  show(z) {
    const { data } = this;
    this.seams.visible = this.seamsOn && this.on && data !== null;
    // The first layers are there before those higher up.
    if (!data || z === null || z > data.tops[data.count - 1] + 0.4 * data.layer) {
      this.mesh.visible = false;
      this.#showSection(data && z !== null ? data.count - 1 : null);
      this.seams.geometry.setDrawRange(0, Infinity);
      return;
    }
    let layer = 0;
    const middle = (/** @type {number} */ k) => Math.abs(data.tops[k] - 0.5 * data.layer - z);
    for (let k = 1; k < data.count; k++) if (middle(k) < middle(layer)) layer = k;
    this.mesh.visible = true;
    this.uniforms.z.value = z + 0.01;
    this.seams.geometry.setDrawRange(0, this.seamStart[layer + 1]);
    this.#showSection(layer);
    if (layer === this.layer) return;
    this.layer = layer;
    const [first, last] = [data.start[layer], data.start[layer + 1]];
    const count = Math.max(0, last - first - 1);
    const { geometry } = this.mesh;
    geometry.dispose();
    const made = new THREE.InstancedBufferGeometry();
    made.setAttribute('position', new THREE.BufferAttribute(new Float32Array([-1, -1, 0, 1, -1, 0, 1, 1, 0, -1, 1, 0]), 3));
    made.setIndex([0, 1, 2, 0, 2, 3]);
    for (const [name, array] of /** @type {[string, Uint16Array | Uint8Array][]} */ ([['a', data.places.slice(2 * first, 2 * (first + count))], ['b', data.places.slice(2 * first + 2, 2 * (first + 1 + count))], ['beadA', data.beads.slice(2 * first, 2 * (first + count))], ['beadB', data.beads.slice(2 * first + 2, 2 * (first + 1 + count))]])) {
      made.setAttribute(name, new THREE.InstancedBufferAttribute(array, 2));
    }
    const fast = this.speeds ? this.speeds.slice(first + 1, first + 1 + count) : new Uint8Array(count).fill(255);
    made.setAttribute('fast', new THREE.InstancedBufferAttribute(fast, 1, true));
    made.instanceCount = count;
    this.mesh.geometry = made;
    this.uniforms.count.value = count;
  }

  /** Kinds that there are. @returns {Set<number>} */
  get kinds() {
    const found = new Set();
    for (let i = 1; i < (this.data?.beads.length ?? 0); i += 2) found.add(kindOf(this.data.beads[i]));
    return found;
  }
}
