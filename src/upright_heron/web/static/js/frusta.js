import * as THREE from 'three';

/** What a frustum is, as a sum; the same as in the core. */
const BAR = 1, LOW_END = 2, HIGH_END = 4;
const STRIDE = 9;
/** Facets of one frustum with both ends. @param {number} sides */
const facets = (sides) => 4 * sides - 4;

const DECLARE = /* glsl */ `
  attribute vec4 low; attribute vec4 high; attribute float what; uniform float uFrusta;
  vec3 onFrustum(vec3 corner) {
    // Corners of ends lie below 0 and above 1: an open end shrinks to its middle.
    float end = corner.z < -0.5 ? ${LOW_END}.0 : corner.z > 1.5 ? ${HIGH_END}.0 : 0.0;
    vec4 at = mix(low, high, clamp(corner.z, 0.0, 1.0));
    if (end > 0.0 && mod(floor(what / end), 2.0) < 0.5) at.w = 0.0;
    vec2 ring = at.w * corner.xy;
    if (mod(what, 2.0) > 0.5) {
      vec3 way = high.xyz - low.xyz;
      vec2 along = way.xy / max(length(way.xy), 1e-9);
      ring = at.w * (corner.x * length(way) / way.z * along + corner.y * vec2(-along.y, along.x));
    }
    return vec3(at.xy + ring, at.z);
  }
`;

/** @typedef {import('./blocks.js').MeshData | import('./blocks.js').FrustaData} Shell */

/** Let a material draw frusta where its geometry has some. @param {THREE.Material} material */
export function drawsFrusta(material) {
  material.userData.frusta = { value: 0 };
  material.onBeforeCompile = (shader) => {
    shader.uniforms.uFrusta = material.userData.frusta;
    shader.vertexShader = DECLARE + shader.vertexShader.replace('#include <begin_vertex>', 'vec3 transformed = uFrusta > 0.5 ? onFrustum(position) : position;');
  };
}

/**
 * A shell as it is drawn, frusta as one shape many times.
 * @param {Shell | null} shell @param {THREE.Material} material  made by `drawsFrusta`
 */
export function shellGeometry(shell, material) {
  const many = shell && 'frusta' in shell;
  material.userData.frusta.value = many ? 1 : 0;
  if (many) return shell.frusta.length ? frustaGeometry(shell) : new THREE.BufferGeometry();
  return facetGeometry(shell);
}

/** A shell as facets. @param {Shell | null} shell */
export function facetGeometry(shell) {
  const geometry = new THREE.BufferGeometry();
  const mesh = shell && ('frusta' in shell ? frustaMesh(shell) : shell);
  if (mesh?.faces.length) {
    geometry.setAttribute('position', new THREE.BufferAttribute(mesh.vertices, 3));
    geometry.setIndex(new THREE.BufferAttribute(mesh.faces, 1));
  }
  return geometry;
}

/** One frustum between 0 and 1: walls, and its ends apart from them. @param {number} sides */
function unit(sides) {
  const corners = [-1, 0, 1, 2].flatMap((z) => Array.from({ length: sides }, (_, i) => {
    const turn = (2 * Math.PI * i) / sides;
    return [Math.cos(turn), Math.sin(turn), z];
  }).flat());
  const faces = [];
  for (let i = 0; i < sides; i++) {
    const j = (i + 1) % sides;
    faces.push(sides + i, sides + j, 2 * sides + j, sides + i, 2 * sides + j, 2 * sides + i);
  }
  for (let i = 1; i < sides - 1; i++) faces.push(0, i + 1, i);
  for (let i = 1; i < sides - 1; i++) faces.push(3 * sides, 3 * sides + i, 3 * sides + i + 1);
  return { corners: new Float32Array(corners), faces };
}

/**
 * Frusta as one shape that is drawn many times.
 * @param {import('./blocks.js').FrustaData} data
 * @returns {THREE.InstancedBufferGeometry}
 */
function frustaGeometry({ sides, frusta }) {
  const geometry = new THREE.InstancedBufferGeometry();
  const { corners, faces } = unit(sides);
  geometry.setAttribute('position', new THREE.BufferAttribute(corners, 3));
  geometry.setIndex(faces);
  const rows = new THREE.InstancedInterleavedBuffer(frusta, STRIDE);
  geometry.setAttribute('low', new THREE.InterleavedBufferAttribute(rows, 4, 0));
  geometry.setAttribute('high', new THREE.InterleavedBufferAttribute(rows, 4, 4));
  geometry.setAttribute('what', new THREE.InterleavedBufferAttribute(rows, 1, 8));
  geometry.instanceCount = frusta.length / STRIDE;
  const box = new THREE.Box3();
  for (let at = 0; at < frusta.length; at += STRIDE) {
    box.expandByPoint(new THREE.Vector3().fromArray(frusta, at)).expandByPoint(new THREE.Vector3().fromArray(frusta, at + 4));
  }
  geometry.boundingSphere = box.getBoundingSphere(new THREE.Sphere());
  return geometry;
}

/**
 * The same frusta as facets, each closed at both ends, in their order.
 * @param {import('./blocks.js').FrustaData} data
 * @returns {import('./blocks.js').MeshData}
 */
function frustaMesh({ sides, frusta }) {
  const { corners, faces } = unit(sides);
  const count = frusta.length / STRIDE;
  const vertices = new Float32Array(count * corners.length);
  const index = new Uint32Array(3 * count * facets(sides));
  for (let n = 0; n < count; n++) {
    const row = frusta.subarray(STRIDE * n, STRIDE * (n + 1));
    const way = [row[4] - row[0], row[5] - row[1], row[6] - row[2]];
    const flat = Math.hypot(way[0], way[1]) || 1;
    const [along, aside, longer] = row[8] & BAR ? [way[0] / flat, way[1] / flat, Math.hypot(...way) / way[2]] : [1, 0, 1];
    for (let i = 0; i < corners.length; i += 3) {
      const share = Math.min(1, Math.max(0, corners[i + 2]));
      const radius = row[3] + share * (row[7] - row[3]);
      const [x, y] = [radius * corners[i] * longer, radius * corners[i + 1]];
      vertices.set([row[0] + share * way[0] + x * along - y * aside, row[1] + share * way[1] + x * aside + y * along, row[2] + share * way[2]], n * corners.length + i);
    }
    for (let i = 0; i < faces.length; i++) index[n * faces.length + i] = faces[i] + (n * corners.length) / 3;
  }
  return { vertices, faces: index };
}
