import * as THREE from 'three';
import { BEAD_COLOUR, WAYS } from './bead-colours.js';
import { kindOf, layersOf } from './blocks.js';

/**
 * @typedef {object} Side  an upright plane that what is nearer to the eye is cut away at
 * @property {number[]} away  x, y: the way to the eye, of length 1
 * @property {number} offset  mm along it, from the middle of the plate
 */
/** @typedef {{levels: {z: number, part: number}[], part: import('./blocks.js').LayersData | null}} Ground  the layers of the part itself */
/** @typedef {(low: number, high: number, bottom: number, top: number, width: number, byte: number, fast: number) => void} Put */

/** In the byte of what a bead is, where the part itself is meant. */
const GROUND = 255;

const VERTEX = /* glsl */ `
  attribute vec4 lies; attribute vec2 bead; attribute float fast;
  uniform vec2 way; uniform float offset; uniform float wideMm;
  varying vec2 vAt; varying vec2 vHalf; varying float vKind; varying float vWide; varying float vFast; varying float vNozzle; varying float vGround;
  void main() {
    vGround = step(254.5, bead.y);
    vNozzle = step(63.5, bead.y);
    vKind = mod(bead.y, 16.0);
    vWide = 0.5 * wideMm * bead.x;
    vFast = fast;
    vHalf = 0.5 * vec2(lies.y - lies.x, lies.w - lies.z);
    vAt = position.xy * vHalf;
    vec2 middle = 0.5 * vec2(lies.x + lies.y, lies.z + lies.w);
    // What is printed lies before the part, a hair apart.
    vec2 at = way * (offset + (vGround > 0.5 ? -0.02 : 0.02)) + vec2(-way.y, way.x) * (middle.x + vAt.x);
    gl_Position = projectionMatrix * modelViewMatrix * vec4(at, middle.y + vAt.y, 1.0);
  }
`;
const FRAGMENT = /* glsl */ `
  ${BEAD_COLOUR}
  varying vec2 vAt; varying vec2 vHalf; varying float vKind; varying float vWide; varying float vFast; varying float vNozzle; varying float vGround;
  void main() {
    if (vGround > 0.5) gl_FragColor = vec4(0.80, 0.85, 0.86, 1.0);
    else {
      int kind = int(vKind + 0.5);
      if (shown[kind] < 0.5) discard;
      // One looks into its end, so marks run across it; the rim tells it from the next.
      vec3 colour = beadColour(kind, vWide, vFast, vNozzle, vAt.x, abs(vAt.y) / vHalf.y);
      gl_FragColor = vec4(vHalf.x - abs(vAt.x) < 0.25 * vHalf.y ? 0.7 * colour : colour, 1.0);
    }
    #include <colorspace_fragment>
  }
`;

/** The face where what is printed is cut open by an upright plane: ends of beads, and behind them the part. */
export class BeadSection {
  /** @param {Record<string, {value: any}>} shared  what beads are coloured by */
  constructor(shared) {
    this.uniforms = { ...shared, way: { value: new THREE.Vector2(0, -1) }, offset: { value: 0 } };
    const material = new THREE.ShaderMaterial({ uniforms: this.uniforms, vertexShader: VERTEX, fragmentShader: FRAGMENT, side: THREE.DoubleSide });
    this.mesh = new THREE.Mesh(new THREE.BufferGeometry(), material);
    this.mesh.frustumCulled = false;
    this.mesh.visible = false;
    /** How much is drawn up to each layer. */
    this.upTo = new Uint32Array(1);
  }

  /**
   * Cut the beads of all layers.
   * @param {import('./blocks.js').PathsData} data @param {Uint8Array | null} speeds @param {Side} side @param {Ground} ground
   */
  make(data, speeds, side, ground) {
    const lies = /** @type {number[]} */ ([]), beads = /** @type {number[]} */ ([]), fast = /** @type {number[]} */ ([]);
    const put = (low, high, bottom, top, width, byte, speed) => {
      lies.push(low, high, bottom, top);
      beads.push(width, byte);
      fast.push(speed);
    };
    this.upTo = new Uint32Array(data.count);
    let level = 0;
    for (let k = 0; k < data.count; k++) {
      const middle = data.tops[k] - 0.5 * data.layer;
      while (level + 1 < ground.levels.length && ground.levels[level].z < middle - 0.4 * data.layer) level += 1;
      const here = ground.levels[level];
      if (ground.part && here && Math.abs(here.z - middle) < 0.4 * data.layer) cutPart(ground.part, here.part, side, data.tops[k] - data.layer, data.tops[k], put);
      cutBeads(data, k, speeds, side, put);
      this.upTo[k] = fast.length;
    }
    this.uniforms.way.value.fromArray(side.away);
    this.uniforms.offset.value = side.offset;
    const made = new THREE.InstancedBufferGeometry();
    made.setAttribute('position', new THREE.BufferAttribute(new Float32Array([-1, -1, 0, 1, -1, 0, 1, 1, 0, -1, 1, 0]), 3));
    made.setIndex([0, 1, 2, 0, 2, 3]);
    made.setAttribute('lies', new THREE.InstancedBufferAttribute(new Float32Array(lies), 4));
    made.setAttribute('bead', new THREE.InstancedBufferAttribute(new Uint8Array(beads), 2));
    made.setAttribute('fast', new THREE.InstancedBufferAttribute(new Uint8Array(fast), 1, true));
    this.mesh.geometry.dispose();
    this.mesh.geometry = made;
  }

  /** @param {number | null} layer  the last that is shown; null shows nothing */
  show(layer) {
    this.mesh.visible = layer !== null;
    const { geometry } = this.mesh;
    if (layer !== null && geometry instanceof THREE.InstancedBufferGeometry) geometry.instanceCount = this.upTo[layer] ?? 0;
  }
}

/**
 * Where the plane goes through the part itself: stretches of one of its layers.
 * @param {import('./blocks.js').LayersData} part @param {number} index @param {Side} side @param {number} bottom @param {number} top @param {Put} put
 */
function cutPart(part, index, side, bottom, top, put) {
  if (index < 0 || index >= part.count) return;
  const { points } = part;
  const [ax, ay] = side.away;
  const at = [];
  for (let r = part.layerStart[index]; r < part.layerStart[index + 1]; r++) {
    let j = part.ringStart[r + 1] - 1;
    for (let i = part.ringStart[r]; i < part.ringStart[r + 1]; j = i++) {
      const di = ax * points[2 * i] + ay * points[2 * i + 1] - side.offset;
      const dj = ax * points[2 * j] + ay * points[2 * j + 1] - side.offset;
      if (di > 0 === dj > 0) continue;
      const t = dj / (dj - di);
      const x = points[2 * j] + t * (points[2 * i] - points[2 * j]), y = points[2 * j + 1] + t * (points[2 * i + 1] - points[2 * j + 1]);
      at.push(ax * y - ay * x);
    }
  }
  at.sort((a, b) => a - b);
  // A little into the layer below: no light shows between them.
  for (let i = 0; i + 1 < at.length; i += 2) put(at[i], at[i + 1], bottom - 0.02, top, 0, GROUND, 0);
}

/**
 * Where the plane goes through the beads of a layer. In plan a bead is what lies within half its width of its middle.
 * @param {import('./blocks.js').PathsData} data @param {number} k  layer @param {Uint8Array | null} speeds @param {Side} side @param {Put} put
 */
function cutBeads(data, k, speeds, side, put) {
  const { places, beads, step, wide, tops } = data;
  const [ax, ay] = side.away;
  const from = side.offset - ax * data.low[0] - ay * data.low[1];
  const along = ax * data.low[1] - ay * data.low[0];
  for (let i = data.start[k] + 1; i < data.start[k + 1]; i++) {
    const byte = beads[2 * i + 1];
    if (byte & 128 || kindOf(byte) === WAYS) continue;
    const x0 = places[2 * i - 2] * step, y0 = places[2 * i - 1] * step, x1 = places[2 * i] * step, y1 = places[2 * i + 1] * step;
    const d0 = ax * x0 + ay * y0 - from, d1 = ax * x1 + ay * y1 - from;
    const most = 0.5 * wide * Math.max(beads[2 * i - 2], beads[2 * i]);
    if ((d0 >= most && d1 >= most) || (d0 <= -most && d1 <= -most)) continue;
    const s0 = ax * y0 - ay * x0 + along, ds = ax * (y1 - y0) - ay * (x1 - x0), dd = d1 - d0;
    const crossing = Math.abs(dd) > 1e-6 ? Math.min(1, Math.max(0, -d0 / dd)) : 0.5;
    const width = beads[2 * i - 2] + crossing * (beads[2 * i] - beads[2 * i - 2]);
    const r = 0.5 * wide * width;
    // Both ends of the stretch: where s(t) +- sqrt(r^2 - d(t)^2) is largest and smallest along its middle.
    const best = (r * ds * Math.sign(dd)) / (Math.hypot(ds, dd) || 1);
    const end = (/** @type {number} */ sign) => {
      const t = Math.abs(dd) > 1e-6 ? Math.min(1, Math.max(0, (sign * best - d0) / dd)) : sign * ds > 0 ? 1 : 0;
      const d = d0 + t * dd;
      return Math.abs(d) < r ? s0 + t * ds + sign * Math.sqrt(r * r - d * d) : NaN;
    };
    const low = end(-1), high = end(1);
    if (!(high > low)) continue;
    put(low, high, tops[k] - layersOf(byte) * data.layer, tops[k], Math.round(width), byte & 127, speeds ? speeds[i] : 255);
  }
}
