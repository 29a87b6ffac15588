/**
 * Readers of the binary blocks under /api/blocks; the layouts are in docs/blocks.md.
 */

/** @typedef {{vertices: Float32Array, faces: Uint32Array}} MeshData mm, three corners a facet */
/** @typedef {{sides: number, frusta: Float32Array}} FrustaData  nine figures a frustum: two circles, and what it is */
/** @typedef {MeshData & {steps: number, away: Float32Array, side: Int8Array, faceStart: Uint32Array}} PiecesData */
/**
 * @typedef {object} LayersData
 * @property {number} count
 * @property {number} layer  height of a layer, mm
 * @property {number} base   underside of the first layer, mm
 * @property {Float32Array} area  mm2
 * @property {Uint32Array} layerStart  first ring of each layer
 * @property {Uint32Array} ringStart   first corner of each ring
 * @property {Float32Array} points     x, y of all corners, mm
 */

/**
 * Fetch a block.
 * @param {string} url
 * @param {AbortSignal} [signal]
 * @returns {Promise<ArrayBuffer>}
 */
export async function fetchBlock(url, signal) {
  const response = await fetch(url, { signal });
  if (!response.ok) throw new Error(`blocks: ${url} answered ${response.status}`);
  return response.arrayBuffer();
}

/** @param {DataView} view @param {string} word */
function expect(view, word) {
  const found = String.fromCharCode(...[0, 1, 2, 3].map((i) => view.getUint8(i)));
  if (found !== word) throw new Error(`blocks: expected ${word}, found ${found}`);
}

/** @param {ArrayBuffer} buffer @returns {MeshData} */
export function readMesh(buffer) {
  const view = new DataView(buffer);
  expect(view, 'UHM1');
  const [v, f] = [view.getUint32(4, true), view.getUint32(8, true)];
  return { vertices: new Float32Array(buffer, 12, 3 * v), faces: new Uint32Array(buffer, 12 + 12 * v, 3 * f) };
}

/**
 * @typedef {object} PathsData
 * @property {number} count  of layers
 * @property {number[]} low  x, y of the lowest corner, mm
 * @property {number} step  of places, mm
 * @property {number} wide  of widths, mm
 * @property {number} layer  height of a layer, mm
 * @property {Float32Array} tops  mm
 * @property {Uint32Array} start  first place of each layer
 * @property {Uint16Array} places  x, y, in steps
 * @property {Uint8Array} beads  width in steps, and a byte of what it is; see `kindOf`
 */

/** What kind a path is of. @param {number} byte */
export const kindOf = (byte) => byte & 15;

/** How many layers it fills at once. @param {number} byte */
export const layersOf = (byte) => 1 + ((byte >> 4) & 3);

/** @param {ArrayBuffer} buffer @returns {PathsData} */
export function readPaths(buffer) {
  const view = new DataView(buffer);
  expect(view, 'UHB3');
  const [count, places] = [4, 8].map((at) => view.getUint32(at, true));
  const [x, y, step, wide, layer] = [12, 16, 20, 24, 28].map((at) => view.getFloat32(at, true));
  let at = 32;
  const tops = new Float32Array(buffer, at, count);
  at += 4 * count;
  const start = new Uint32Array(buffer, at, count + 1);
  at += 4 * (count + 1);
  return { count, low: [x, y], step, wide, layer, tops, start, places: new Uint16Array(buffer, at, 2 * places), beads: new Uint8Array(buffer, at + 4 * places, 2 * places) };
}

/** Speed up to each place of paths, in bytes, and what one is worth. @param {ArrayBuffer} buffer @returns {{ step: number, speeds: Uint8Array }} */
export function readSpeeds(buffer) {
  const view = new DataView(buffer);
  expect(view, 'UHS1');
  return { step: view.getFloat32(8, true), speeds: new Uint8Array(buffer, 12, view.getUint32(4, true)) };
}

/**
 * Supports: a mesh, or frusta that are drawn as one shape many times.
 * @param {ArrayBuffer} buffer @returns {MeshData | FrustaData}
 */
export function readShell(buffer) {
  const view = new DataView(buffer);
  if (view.getUint8(2) !== 'F'.charCodeAt(0)) return readMesh(buffer);
  expect(view, 'UHF1');
  return { sides: view.getUint32(4, true), frusta: new Float32Array(buffer, 12, 9 * view.getUint32(8, true)) };
}

/** @param {ArrayBuffer} buffer @returns {PiecesData} */
export function readPieces(buffer) {
  const view = new DataView(buffer);
  expect(view, 'UHP2');
  const [n, v, f, steps] = [4, 8, 12, 16].map((at) => view.getUint32(at, true));
  let at = 20;
  const away = new Float32Array(buffer, at, 3 * steps);
  at += 12 * steps;
  const side = new Int8Array(buffer, at, steps * n);
  at += 4 * Math.ceil((steps * n) / 4);
  const faceStart = new Uint32Array(buffer, at, n + 1);
  at += 4 * (n + 1);
  const vertices = new Float32Array(buffer, at, 3 * v);
  at += 12 * v;
  return { steps, away, side, faceStart, vertices, faces: new Uint32Array(buffer, at, 3 * f) };
}

/** @param {ArrayBuffer} buffer @returns {LayersData} */
export function readLayers(buffer) {
  const view = new DataView(buffer);
  expect(view, 'UHL1');
  const [count, rings, points] = [4, 8, 12].map((at) => view.getUint32(at, true));
  let at = 24;
  const area = new Float32Array(buffer, at, count);
  at += 4 * count;
  const layerStart = new Uint32Array(buffer, at, count + 1);
  at += 4 * (count + 1);
  const ringStart = new Uint32Array(buffer, at, rings + 1);
  at += 4 * (rings + 1);
  return {
    count,
    layer: view.getFloat32(16, true),
    base: view.getFloat32(20, true),
    area,
    layerStart,
    ringStart,
    points: new Float32Array(buffer, at, 2 * points),
  };
}
