import * as THREE from 'three';

/**
 * Draw the plate and the frame of the build volume, for the view.
 * @param {THREE.Group} group  @param {number[]} build  x, y, z of the build volume, mm
 */
export function drawPlate(group, build) {
  for (const child of /** @type {THREE.Mesh[]} */ (group.children)) child.geometry.dispose();
  group.clear();
  const [x, y] = [build[0] / 2, build[1] / 2];
  const step = Math.max(build[0], build[1]) > 400 ? 50 : 10;
  const thin = [], thick = [];
  for (let i = -Math.floor(x / step); i <= x / step; i++) (i % 5 ? thin : thick).push(i * step, -y, 0, i * step, y, 0);
  for (let j = -Math.floor(y / step); j <= y / step; j++) (j % 5 ? thin : thick).push(-x, j * step, 0, x, j * step, 0);
  const frame = [];
  const corners = [[-x, -y], [x, -y], [x, y], [-x, y]];
  corners.forEach((a, k) => {
    const b = corners[(k + 1) % 4];
    frame.push(...a, 0, ...b, 0, ...a, build[2], ...b, build[2], ...a, 0, ...a, build[2]);
  });
  const lines = (position, colour, opacity) => {
    const g = new THREE.BufferGeometry();
    g.setAttribute('position', new THREE.Float32BufferAttribute(position, 3));
    return new THREE.LineSegments(g, new THREE.LineBasicMaterial({ color: colour, transparent: true, opacity }));
  };
  // Seen from above only: from below it would veil the very undersides that one looks for.
  const floor = new THREE.Mesh(new THREE.PlaneGeometry(build[0], build[1]), new THREE.MeshBasicMaterial({ color: '#f3eee3', polygonOffset: true, polygonOffsetFactor: 4, polygonOffsetUnits: 4, transparent: true, opacity: 0.75, depthWrite: false }));
  group.add(floor, lines(thin, '#cfc8b8', 0.55), lines(thick, '#a9a294', 0.75), lines(frame, '#8f9aa0', 0.45));
}

/**
 * Lay the plate where it is below the item, which is drawn in a frame of its own.
 * @param {THREE.Group} group  @param {number[]} stands  x, y of the item on the plate (mm), and its swing (degrees)
 */
export function layPlate(group, [x, y, swing]) {
  const turn = (-swing * Math.PI) / 180;
  const [c, s] = [Math.cos(turn), Math.sin(turn)];
  group.rotation.z = turn;
  group.position.set(-(c * x - s * y), -(s * x + c * y), 0);
}
