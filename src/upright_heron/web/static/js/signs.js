import * as THREE from 'three';

/**
 * A defect or a place on the part, drawn over everything: one inside the part or on its far side is seen too.
 * @param {{lines: number[], facets: number[], at: number[], colour?: string}} place  in the frame of the part
 * @param {string} colour  where it has none of its own
 * @returns {{sign: THREE.Group, long: number}}  and how long its edges reach, mm
 */
export function placeSign(place, colour) {
  const sign = new THREE.Group();
  const over = { color: place.colour ?? colour, depthTest: false, transparent: true };
  const facets = new THREE.BufferGeometry();
  facets.setAttribute('position', new THREE.Float32BufferAttribute(place.facets, 3));
  sign.add(new THREE.Mesh(facets, new THREE.MeshBasicMaterial({ ...over, opacity: 0.65, side: THREE.DoubleSide })));
  const lines = new THREE.BufferGeometry();
  const edges = [...place.lines];
  for (let i = 0; i + 8 < place.facets.length && i < 9 * 400; i += 9) {
    const [a, b, c] = [0, 3, 6].map((k) => place.facets.slice(i + k, i + k + 3));
    edges.push(...a, ...b, ...b, ...c, ...c, ...a);
  }
  const corners = new THREE.Float32BufferAttribute(edges, 3);
  lines.setAttribute('position', corners);
  sign.add(new THREE.LineSegments(lines, new THREE.LineBasicMaterial(over)));
  const spot = new THREE.BufferGeometry().setFromPoints([new THREE.Vector3(...place.at)]);
  sign.add(new THREE.Points(spot, round(new THREE.PointsMaterial({ ...over, size: 16, sizeAttenuation: false, opacity: 0.55 }))));
  sign.renderOrder = 5;
  return { sign, long: new THREE.Box3().setFromBufferAttribute(corners).getSize(new THREE.Vector3()).length() };
}

/** The shadow of a part on the plate. @param {import('./part.js').PartBody} part */
export function shadowSign(part) {
  const shadow = new THREE.Mesh(part.geometry, new THREE.MeshBasicMaterial({ color: '#3b4a52', transparent: true, opacity: 0.55, side: THREE.DoubleSide, depthWrite: false }));
  shadow.matrixAutoUpdate = false;
  shadow.matrix.makeScale(1, 1, 1e-5).setPosition(0, 0, 0.1).multiply(part.mesh.matrix);
  return shadow;
}

/** A centre of mass, with a line down to the plate. @param {number} x @param {number} y @param {number} z  mm */
export function centreSign(x, y, z) {
  const sign = new THREE.Group();
  const over = { color: '#20303a', depthTest: false, transparent: true };
  const line = new THREE.BufferGeometry().setFromPoints([new THREE.Vector3(x, y, z), new THREE.Vector3(x, y, 0)]);
  const spot = new THREE.BufferGeometry().setFromPoints([new THREE.Vector3(x, y, z)]);
  sign.add(new THREE.Line(line, new THREE.LineBasicMaterial(over)), new THREE.Points(spot, new THREE.PointsMaterial({ ...over, size: 14, sizeAttenuation: false })));
  sign.renderOrder = 5;
  return sign;
}

/** Make points round. @param {THREE.PointsMaterial} material */
function round(material) {
  material.onBeforeCompile = (shader) => {
    shader.fragmentShader = shader.fragmentShader.replace('#include <color_fragment>', '#include <color_fragment>\n if (length(gl_PointCoord - 0.5) > 0.5) discard;');
  };
  return material;
}
