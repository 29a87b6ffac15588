import * as THREE from 'three';
import { MeshBVH, acceleratedRaycast } from 'three-mesh-bvh';

/** Facets past the limit by less than this are not coloured; the same guard as the server's, in degrees. */
const ANGLE_GUARD = 1e-3;
const BIN = 0.01; // degrees a bin of the area table
/** Limits of what figures speak of, as on the server: show side 60 degrees, flat 3 degrees, level half a degree. */
const SHOW = 0.5, FLAT = Math.cos((3 * Math.PI) / 180), LEVEL = Math.cos((0.5 * Math.PI) / 180), STEEP = 0.05;

const DECLARE = /* glsl */ `
  varying vec4 vFacet; // downward part of the normal, height, likeness to the picked face, distance from its plane
`;
const VERTEX = /* glsl */ `
  attribute float lit; varying float vLit;
  uniform vec3 uDown; uniform vec3 uPickNormal; uniform float uPickOffset;
  ${DECLARE}
`;
const FRAGMENT = /* glsl */ `
  varying float vLit; uniform vec3 uLit;
  uniform float uLimit; uniform float uPlate; uniform float uShow; uniform float uPicking; uniform float uPickTolerance;
  uniform vec3 uLight; uniform vec3 uMiddle; uniform vec3 uDark; uniform vec3 uPick;
  ${DECLARE}
`;
const COLOUR = /* glsl */ `
  #include <color_fragment>
  bool lying = vFacet.y < uPlate && vFacet.x > 0.9999;
  if (uShow > 0.5 && vFacet.x > sin(uLimit) && !lying) {
    float t = clamp((asin(min(vFacet.x, 1.0)) - uLimit) / max(1.5707963 - uLimit, 0.001), 0.0, 1.0);
    vec3 plum = t < 0.5 ? mix(uLight, uMiddle, 2.0 * t) : mix(uMiddle, uDark, 2.0 * t - 1.0);
    // Slanted lines beside the colour, for eyes that do not tell plum from grey.
    float line = step(0.78, fract((gl_FragCoord.x + gl_FragCoord.y) / 8.0));
    diffuseColor.rgb = mix(plum, plum * 0.72, line);
  }
  // What a figure speaks of: a colour, and dots beside it.
  if (vLit > 0.5) {
    vec2 cell = fract(gl_FragCoord.xy / 7.0) - 0.5;
    diffuseColor.rgb = mix(uLit, uLit * 0.62, step(dot(cell, cell), 0.07));
  }
  if (uPicking > 0.5 && vFacet.z > 0.9998 && abs(vFacet.w) < uPickTolerance) diffuseColor.rgb = mix(diffuseColor.rgb, uPick, 0.65);
`;

/** Part of a job in the scene: its facets, overhang colour in the shader, placing and picking. */
export class PartBody {
  /**
   * @param {import('./blocks.js').MeshData} data  the part as it came, mm
   * @param {THREE.Plane[]} clippingPlanes
   * @param {boolean} closed  an open part shows its inside through its holes; a closed one need not draw it
   */
  constructor(data, clippingPlanes, closed) {
    this.data = data;
    const { vertices, faces } = data;
    const facets = faces.length / 3;
    const position = new Float32Array(9 * facets);
    const normal = new Float32Array(9 * facets);
    this.areas = new Float32Array(facets);
    this.normals = new Float32Array(3 * facets);
    for (let f = 0; f < facets; f++) {
      const [a, b, c] = [3 * faces[3 * f], 3 * faces[3 * f + 1], 3 * faces[3 * f + 2]];
      const ux = vertices[b] - vertices[a], uy = vertices[b + 1] - vertices[a + 1], uz = vertices[b + 2] - vertices[a + 2];
      const wx = vertices[c] - vertices[a], wy = vertices[c + 1] - vertices[a + 1], wz = vertices[c + 2] - vertices[a + 2];
      let x = uy * wz - uz * wy, y = uz * wx - ux * wz, z = ux * wy - uy * wx;
      const length = Math.hypot(x, y, z) || 1;
      this.areas[f] = length / 2;
      x /= length; y /= length; z /= length;
      this.normals.set([x, y, z], 3 * f);
      for (let k = 0; k < 3; k++) {
        const from = k === 0 ? a : k === 1 ? b : c;
        const to = 9 * f + 3 * k;
        position[to] = vertices[from]; position[to + 1] = vertices[from + 1]; position[to + 2] = vertices[from + 2];
        normal[to] = x; normal[to + 1] = y; normal[to + 2] = z;
      }
    }
    this.geometry = new THREE.BufferGeometry();
    this.geometry.setAttribute('position', new THREE.BufferAttribute(position, 3));
    this.geometry.setAttribute('normal', new THREE.BufferAttribute(normal, 3));
    this.uniforms = {
      uDown: { value: new THREE.Vector3(0, 0, -1) },
      uLimit: { value: Math.PI / 4 },
      uPlate: { value: 0.01 },
      uShow: { value: 0 },
      uPicking: { value: 0 },
      uPickNormal: { value: new THREE.Vector3(0, 0, 1) },
      uPickOffset: { value: 0 },
      uPickTolerance: { value: 0.01 },
      uLight: { value: new THREE.Color('#e6d3ee') },
      uMiddle: { value: new THREE.Color('#a264c0') },
      uDark: { value: new THREE.Color('#5b2378') },
      uPick: { value: new THREE.Color('#2f9fc4') },
      uLit: { value: new THREE.Color('#e0a92e') },
    };
    this.material = new THREE.MeshLambertMaterial({ color: '#93a7b2', side: closed ? THREE.FrontSide : THREE.DoubleSide, clippingPlanes });
    this.material.onBeforeCompile = (shader) => {
      Object.assign(shader.uniforms, this.uniforms);
      shader.vertexShader = VERTEX + shader.vertexShader.replace(
        '#include <begin_vertex>',
        `#include <begin_vertex>
        vLit = lit;
        vFacet = vec4(dot(normal, uDown), (modelMatrix * vec4(position, 1.0)).z, dot(normal, uPickNormal), dot(position, uPickNormal) - uPickOffset);`,
      );
      shader.fragmentShader = FRAGMENT + shader.fragmentShader.replace('#include <color_fragment>', COLOUR);
    };
    this.mesh = new THREE.Mesh(this.geometry, this.material);
    this.mesh.matrixAutoUpdate = false;
    this.mesh.raycast = acceleratedRaycast;
    this.rotation = new THREE.Matrix3();
    this.table = new Float64Array(Math.ceil(90 / BIN) + 2);
  }

  /**
   * Where the part stands when turned: dropped on the plate, the middle of its box over a spot, lifted.
   * @param {THREE.Matrix3} rotation
   * @param {number} lift mm
   * @param {number[]} at  x, y of the spot, mm
   * @returns {{matrix: THREE.Matrix4, height: number}}
   */
  placing(rotation, lift, at) {
    const e = rotation.elements; // column-major
    const { vertices } = this.data;
    const low = [Infinity, Infinity, Infinity], high = [-Infinity, -Infinity, -Infinity];
    for (let i = 0; i < vertices.length; i += 3) {
      for (let k = 0; k < 3; k++) {
        const v = e[k] * vertices[i] + e[k + 3] * vertices[i + 1] + e[k + 6] * vertices[i + 2];
        if (v < low[k]) low[k] = v;
        if (v > high[k]) high[k] = v;
      }
    }
    const matrix = new THREE.Matrix4().setFromMatrix3(rotation);
    matrix.setPosition(at[0] - (low[0] + high[0]) / 2, at[1] - (low[1] + high[1]) / 2, lift - low[2]);
    return { matrix, height: high[2] - low[2] };
  }

  /**
   * Stand the part.
   * @param {THREE.Matrix3} rotation
   * @param {number} lift mm
   * @param {number} raised mm, by a raft
   * @param {number[]} at  x, y on the plate, mm
   */
  stand(rotation, lift, raised, at) {
    this.rotation = rotation;
    const { matrix, height } = this.placing(rotation, lift, at);
    this.height = height;
    this.mesh.matrix.copy(matrix);
    this.mesh.matrix.elements[14] += raised;
    this.mesh.matrixWorldNeedsUpdate = true;
    const e = rotation.elements;
    this.uniforms.uDown.value.set(-e[2], -e[5], -e[8]);
    this.uniforms.uPlate.value = lift > 0 ? -1 : raised + 0.01;
    this.#fillTable(lift, matrix);
  }

  /** Table of the area past each angle, so that the figure follows the slider without the server. */
  #fillTable(lift, matrix) {
    const down = this.uniforms.uDown.value;
    const { vertices, faces } = this.data;
    const m = matrix.elements;
    this.table.fill(0);
    for (let f = 0; f < this.areas.length; f++) {
      const d = this.normals[3 * f] * down.x + this.normals[3 * f + 1] * down.y + this.normals[3 * f + 2] * down.z;
      if (d <= 0) continue;
      if (d > 0.9999 && lift <= 0) {
        let top = -Infinity;
        for (let k = 0; k < 3; k++) {
          const i = 3 * faces[3 * f + k];
          top = Math.max(top, m[2] * vertices[i] + m[6] * vertices[i + 1] + m[10] * vertices[i + 2] + m[14]);
        }
        if (top < 1e-3) continue;
      }
      const angle = (Math.asin(Math.min(1, d)) * 180) / Math.PI;
      this.table[Math.floor(angle / BIN)] += this.areas[f];
    }
    for (let i = this.table.length - 2; i >= 0; i--) this.table[i] += this.table[i + 1];
  }

  /** @param {number} limit degrees from vertical @returns {number} mm2 past it */
  areaPast(limit) {
    const at = Math.min(this.table.length - 1, Math.ceil((limit + ANGLE_GUARD) / BIN));
    return this.table[at];
  }

  /** @param {number} limit degrees from vertical */
  setLimit(limit) {
    this.uniforms.uLimit.value = (Math.min(90, limit + ANGLE_GUARD) * Math.PI) / 180;
  }

  /** @param {boolean} shown */
  showOverhangs(shown) {
    this.uniforms.uShow.value = shown ? 1 : 0;
  }

  /**
   * Light up the face under a ray, and return its outward direction in the part as it came.
   * @param {THREE.Raycaster} raycaster
   * @returns {THREE.Vector3 | null}
   */
  pick(raycaster) {
    if (!this.geometry.boundsTree) this.geometry.boundsTree = new MeshBVH(this.geometry, { indirect: true });
    raycaster.firstHitOnly = true;
    const [hit] = raycaster.intersectObject(this.mesh, false);
    if (!hit) {
      this.uniforms.uPicking.value = 0;
      return null;
    }
    const n = new THREE.Vector3().fromArray(this.normals, 3 * hit.faceIndex);
    const i = 3 * this.data.faces[3 * hit.faceIndex];
    this.uniforms.uPicking.value = 1;
    this.uniforms.uPickNormal.value.copy(n);
    this.uniforms.uPickOffset.value = n.dot(new THREE.Vector3().fromArray(this.data.vertices, i));
    return n;
  }

  /**
   * Facets that a figure speaks of, by the same rules as the server's.
   * @param {'overhang' | 'contact' | 'flat' | 'stairs' | 'show'} kind
   * @param {{limit: number, show: number[] | null}} o
   * @returns {Uint8Array}  1 for each facet that is meant
   */
  select(kind, { limit, show }) {
    const chosen = new Uint8Array(this.areas.length);
    const down = this.uniforms.uDown.value;
    const plate = this.uniforms.uPlate.value;
    const past = Math.sin((Math.min(90, limit + ANGLE_GUARD) * Math.PI) / 180);
    const { vertices, faces } = this.data;
    const m = this.mesh.matrix.elements;
    for (let f = 0; f < chosen.length; f++) {
      const [x, y, z] = [this.normals[3 * f], this.normals[3 * f + 1], this.normals[3 * f + 2]];
      if (kind === 'show') {
        chosen[f] = show && x * show[0] + y * show[1] + z * show[2] >= SHOW ? 1 : 0;
        continue;
      }
      const d = x * down.x + y * down.y + z * down.z;
      if (kind === 'stairs') {
        chosen[f] = Math.abs(d) > STEEP && Math.abs(d) < LEVEL ? 1 : 0;
        continue;
      }
      if (d <= 0) continue;
      let lying = d > 0.9999 && plate >= 0;
      for (let k = 0; k < 3 && lying; k++) {
        const i = 3 * faces[3 * f + k];
        lying = m[2] * vertices[i] + m[6] * vertices[i + 1] + m[10] * vertices[i + 2] + m[14] < plate;
      }
      if (kind === 'contact') chosen[f] = lying ? 1 : 0;
      else chosen[f] = !lying && d > (kind === 'flat' ? FLAT : past) ? 1 : 0;
    }
    return chosen;
  }

  /** Light facets up, or none. @param {Uint8Array | null} chosen  one byte a facet */
  light(chosen) {
    if (!chosen) {
      this.geometry.deleteAttribute('lit');
      this.litArea = 0;
      return;
    }
    const lit = new Float32Array(3 * chosen.length);
    this.litArea = 0;
    for (let f = 0; f < chosen.length; f++) {
      if (!chosen[f]) continue;
      lit.fill(1, 3 * f, 3 * f + 3);
      this.litArea += this.areas[f];
    }
    this.geometry.setAttribute('lit', new THREE.BufferAttribute(lit, 1));
  }

  /**
   * What standing on a face would give.
   * @param {THREE.Vector3} down  outward direction of the face @param {number} limit  degrees
   * @returns {{contact: number, overhang: number}}  mm2
   */
  wouldGive(down, limit) {
    const { vertices, faces } = this.data;
    let lowest = -Infinity;
    for (let i = 0; i < vertices.length; i += 3) lowest = Math.max(lowest, vertices[i] * down.x + vertices[i + 1] * down.y + vertices[i + 2] * down.z);
    const past = Math.sin((Math.min(90, limit + ANGLE_GUARD) * Math.PI) / 180);
    let contact = 0, overhang = 0;
    for (let f = 0; f < this.areas.length; f++) {
      const d = this.normals[3 * f] * down.x + this.normals[3 * f + 1] * down.y + this.normals[3 * f + 2] * down.z;
      if (d <= past && d < 0.9999) continue;
      const i = 3 * faces[3 * f];
      const depth = vertices[i] * down.x + vertices[i + 1] * down.y + vertices[i + 2] * down.z;
      if (d > 0.9999 && depth > lowest - 0.01) contact += this.areas[f];
      else if (d > past) overhang += this.areas[f];
    }
    return { contact, overhang };
  }

  /** Stop lighting faces. */
  unpick() {
    this.uniforms.uPicking.value = 0;
  }

  dispose() {
    this.geometry.dispose();
    this.material.dispose();
  }
}
