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
  attribute float lit; varying float vLit; attribute float mark; varying float vMark;
  uniform vec3 uDown; uniform vec3 uPickNormal; uniform float uPickOffset;
  ${DECLARE}
`;
const FRAGMENT = /* glsl */ `
  varying float vLit; uniform vec3 uLit; varying float vMark;
  float scatter(vec2 p) { return fract(sin(dot(p, vec2(12.9898, 78.233))) * 43758.5453); }
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
  // Marks: teal dots, a dark hatch across that of overhangs, gold flecks, a brick-red grid.
  if (vMark > 0.5 && vMark < 1.5) {
    vec2 cell = fract(gl_FragCoord.xy / 8.0) - 0.5;
    diffuseColor.rgb = mix(mix(diffuseColor.rgb, vec3(0.45, 0.80, 0.77), 0.6), vec3(0.02, 0.36, 0.34), step(dot(cell, cell), 0.08));
  } else if (vMark > 1.5 && vMark < 2.5) {
    float line = step(0.55, fract((gl_FragCoord.x - gl_FragCoord.y) / 7.0));
    diffuseColor.rgb = mix(diffuseColor.rgb * 0.75, vec3(0.035, 0.075, 0.105), line);
  } else if (vMark > 3.5) {
    vec2 at = fract(gl_FragCoord.xy / 9.0);
    diffuseColor.rgb = mix(mix(diffuseColor.rgb, vec3(0.86, 0.68, 0.60), 0.6), vec3(0.36, 0.14, 0.09), max(step(0.78, at.x), step(0.78, at.y)));
  } else if (vMark > 2.5) {
    vec2 cell = floor(gl_FragCoord.xy / 5.0);
    vec2 at = fract(gl_FragCoord.xy / 5.0) - 0.5 - 0.4 * (vec2(scatter(cell), scatter(cell + 7.0)) - 0.5);
    diffuseColor.rgb = mix(mix(diffuseColor.rgb, vec3(0.93, 0.82, 0.45), 0.65), vec3(0.45, 0.27, 0.0), step(dot(at, at), 0.05) * step(0.35, scatter(cell + 3.0)));
  }
  // What a figure speaks of: a colour, and dots beside it.
  if (vLit > 0.5) {
    vec2 cell = fract(gl_FragCoord.xy / 7.0) - 0.5;
    diffuseColor.rgb = mix(uLit, uLit * 0.62, step(dot(cell, cell), 0.07));
  }
  if (uPicking > 0.5 && vFacet.z > 0.9998 && abs(vFacet.w) < uPickTolerance) diffuseColor.rgb = mix(diffuseColor.rgb, uPick, 0.65);
`;

/**
 * Where a part comes to stand: its middle at a place of the plate, its lowest point at the lift.
 * @param {Float32Array} vertices  as it came, mm
 * @param {THREE.Matrix3} rotation @param {number} lift  mm @param {number[]} at  x, y on the plate, mm
 * @returns {{matrix: THREE.Matrix4, height: number}}
 */
export function placing(vertices, rotation, lift, at) {
  const e = rotation.elements; // column-major
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
        vMark = mark;
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
    return placing(this.data.vertices, rotation, lift, at);
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

  /** Tree over the facets, made when it is first asked for. */
  get tree() {
    this.geometry.boundsTree ??= new MeshBVH(this.geometry, { indirect: true });
    return this.geometry.boundsTree;
  }

  /** First facet along a ray of the scene, or null. @param {THREE.Raycaster} raycaster */
  hit(raycaster) {
    this.geometry.boundsTree ??= this.tree;
    raycaster.firstHitOnly = true;
    return raycaster.intersectObject(this.mesh, false)[0] ?? null;
  }

  /** Height of the part below a place of the scene, or null where the plate is. @param {THREE.Vector3} point */
  below(point) {
    const ray = new THREE.Raycaster(point.clone().setZ(point.z - 0.05), new THREE.Vector3(0, 0, -1));
    return this.hit(ray)?.point.z ?? null;
  }

  // Marks ---------------------------------------------------------------------------

  /** Show what is painted. @param {Uint8Array | null} marks  one byte a facet */
  setMarks(marks) {
    const bytes = new Uint8Array(3 * this.areas.length);
    if (marks && marks.length === this.areas.length) {
      for (let f = 0; f < marks.length; f++) bytes[3 * f] = bytes[3 * f + 1] = bytes[3 * f + 2] = marks[f];
    }
    this.geometry.setAttribute('mark', new THREE.Uint8BufferAttribute(bytes, 1));
  }

  /** Paint facets at once. @param {number[]} facets @param {number} byte */
  paint(facets, byte) {
    if (!this.geometry.getAttribute('mark')) this.setMarks(null);
    const attribute = this.geometry.getAttribute('mark');
    let [low, high] = [Infinity, -1];
    for (const f of facets) {
      attribute.array.fill(byte, 3 * f, 3 * f + 3);
      if (f < low) low = f;
      if (f > high) high = f;
    }
    if (high < 0) return;
    /** @type {THREE.BufferAttribute} */ (attribute).addUpdateRange(3 * low, 3 * (high - low + 1));
    attribute.needsUpdate = true;
  }

  /** How many facets have a mark. @param {number} byte */
  count(byte) {
    const array = this.geometry.getAttribute('mark')?.array ?? [];
    let n = 0;
    for (let i = 0; i < array.length; i += 3) if (array[i] === byte) n += 1;
    return n;
  }

  #middle(f, into) {
    const p = this.geometry.getAttribute('position').array;
    const i = 9 * f;
    return into.set((p[i] + p[i + 3] + p[i + 6]) / 3, (p[i + 1] + p[i + 4] + p[i + 7]) / 3, (p[i + 2] + p[i + 5] + p[i + 8]) / 3);
  }

  /**
   * Facets within a distance of a place that the eye sees.
   * @param {{faceIndex: number, point: THREE.Vector3}} hit @param {number} radius  mm @param {THREE.Raycaster} raycaster  to it
   * @returns {number[]}
   */
  around(hit, radius, raycaster) {
    const inverse = new THREE.Matrix4().copy(this.mesh.matrixWorld).invert();
    const at = hit.point.clone().applyMatrix4(inverse);
    const ray = raycaster.ray.clone().applyMatrix4(inverse);
    // All rays of a flat camera run alike; those of the other begin at the eye.
    const flat = raycaster.camera instanceof THREE.OrthographicCamera;
    const found = [hit.faceIndex];
    const middle = new THREE.Vector3(), away = new THREE.Vector3(), back = new THREE.Ray();
    const sphere = new THREE.Sphere(at, radius);
    this.tree.shapecast({
      intersectsBounds: (box) => sphere.intersectsBox(box),
      intersectsTriangle: (_, f) => {
        if (f === hit.faceIndex || this.#middle(f, middle).distanceToSquared(at) > radius * radius) return false;
        if (flat) away.copy(ray.direction).negate();
        else away.subVectors(ray.origin, middle).normalize();
        if (this.normals[3 * f] * away.x + this.normals[3 * f + 1] * away.y + this.normals[3 * f + 2] * away.z > 0) found.push(f);
        return false;
      },
    });
    return found.filter((f, k) => {
      if (k === 0) return true;
      this.#middle(f, middle);
      if (flat) away.copy(ray.direction).negate();
      else away.subVectors(ray.origin, middle).normalize();
      // Back to the eye from just off the surface: what is in the way hides it.
      back.origin.copy(middle).addScaledVector(away, 0.02);
      back.direction.copy(away);
      return !/** @type {any} */ (this.tree).raycastFirst(back, THREE.DoubleSide);
    });
  }

  /** Facets within a distance of a ray, all through the part. @param {THREE.Raycaster} raycaster @param {number} radius  mm */
  along(raycaster, radius) {
    const ray = raycaster.ray.clone().applyMatrix4(new THREE.Matrix4().copy(this.mesh.matrixWorld).invert());
    const found = [];
    const middle = new THREE.Vector3();
    this.tree.shapecast({
      intersectsBounds: (box) => {
        const half = box.getSize(middle).length() / 2;
        return ray.distanceSqToPoint(box.getCenter(middle)) <= (radius + half) ** 2;
      },
      intersectsTriangle: (_, f) => {
        if (ray.distanceSqToPoint(this.#middle(f, middle)) <= radius * radius) found.push(f);
        return false;
      },
    });
    return found;
  }

  /**
   * Light up the face under a ray, and return its outward direction in the part as it came.
   * @param {THREE.Raycaster} raycaster
   * @returns {THREE.Vector3 | null}
   */
  pick(raycaster) {
    const hit = this.hit(raycaster);
    if (!hit) {
      this.uniforms.uPicking.value = 0;
      return null;
    }
    this.picked = this.mesh.worldToLocal(hit.point.clone());
    this.pickedFacet = hit.faceIndex;
    const n = new THREE.Vector3().fromArray(this.normals, 3 * hit.faceIndex);
    const i = 3 * this.data.faces[3 * hit.faceIndex];
    this.uniforms.uPicking.value = 1;
    this.uniforms.uPickNormal.value.copy(n);
    this.uniforms.uPickOffset.value = n.dot(new THREE.Vector3().fromArray(this.data.vertices, i));
    return n;
  }

  /** Direction of the edge of the picked facet that lies nearest to a place. @param {number[]} at @returns {number[]} */
  edgeNear(at) {
    const { vertices, faces } = this.data;
    const place = new THREE.Vector3().fromArray(at);
    const corner = (/** @type {number} */ k) => new THREE.Vector3().fromArray(vertices, 3 * faces[3 * this.pickedFacet + (k % 3)]);
    const edges = [0, 1, 2].map((k) => new THREE.Line3(corner(k), corner(k + 1)));
    const away = edges.map((edge) => edge.closestPointToPoint(place, true, new THREE.Vector3()).distanceTo(place));
    return edges[away.indexOf(Math.min(...away))].delta(new THREE.Vector3()).normalize().toArray();
  }

  /** A place on a ray of the eye and its direction, in the frame of the part. @param {THREE.Raycaster} raycaster */
  rayThrough({ ray }) {
    const at = this.mesh.worldToLocal(ray.at(1, new THREE.Vector3()));
    const beyond = this.mesh.worldToLocal(ray.at(2, new THREE.Vector3()));
    return { at: at.toArray(), away: beyond.sub(at).toArray() };
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
