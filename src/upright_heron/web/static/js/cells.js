/**
 * Into how many boxes a part falls: counted on its facets, in the browser, while a size is typed.
 */

/** @typedef {{counts: number[], box: number[], held: number[], low: number[]}} Cells  where the first box begins, too */

/**
 * Boxes along an axis.
 * @param {number} size  mm @param {number} box  mm @returns {number}
 */
export const along = (size, box) => Math.max(1, Math.ceil(size / box - 1e-9));

/** A closed surface, looked through once, so that boxes are counted within a frame while a size is typed. */
export class CellCounter {
  /** @param {ArrayLike<number>} corners  x, y, z of each corner, mm  @param {ArrayLike<number>} faces  three corners a facet */
  constructor(corners, faces) {
    this.corners = corners;
    this.faces = faces;
    const count = faces.length / 3;
    /** Lowest and highest place of each facet. */
    this.from = new Float32Array(3 * count);
    this.to = new Float32Array(3 * count);
    this.low = [Infinity, Infinity, Infinity];
    this.high = [-Infinity, -Infinity, -Infinity];
    for (let f = 0; f < count; f++) for (let k = 0; k < 3; k++) {
      const [a, b, c] = [corners[3 * faces[3 * f] + k], corners[3 * faces[3 * f + 1] + k], corners[3 * faces[3 * f + 2] + k]];
      this.from[3 * f + k] = Math.min(a, b, c);
      this.to[3 * f + k] = Math.max(a, b, c);
      this.low[k] = Math.min(this.low[k], this.from[3 * f + k]);
      this.high[k] = Math.max(this.high[k], this.to[3 * f + k]);
    }
  }

  /**
   * Count the boxes that hold something: even ones, or full ones moved by shares of a box, as the server cuts them.
   * @param {number[]} largest  box of a piece, mm @param {number[]} [shift]
   * @returns {Cells}  numbers of the boxes that are held: x + nx (y + ny z)
   */
  cells(largest, shift = [0, 0, 0]) {
    const { from, to, corners, faces } = this;
    const size = [0, 1, 2].map((k) => this.high[k] - this.low[k]);
    const even = size.map((v, k) => along(v, largest[k]));
    const box = size.map((v, k) => (shift[k] ? largest[k] : v / even[k]));
    // What is left of full boxes is shared out at both ends, then they are moved.
    const first = size.map((v, k) => (shift[k] ? (v - (even[k] - 1) * box[k]) / 2 + shift[k] * box[k] : 0));
    const begin = first.map((v, k) => v - Math.ceil(v / box[k] - 1e-9) * box[k]);
    const low = begin.map((v, k) => this.low[k] + v);
    const counts = size.map((v, k) => (shift[k] ? along(v - begin[k], box[k]) : even[k]));
    const [nx, ny, nz] = counts;
    const held = new Uint8Array(nx * ny * nz);
    const cell = /** @param {number} v @param {number} k */ (v, k) => Math.min(counts[k] - 1, Math.max(0, Math.floor((v - low[k]) / box[k])));
    /** Crossings of the upright line through the middle of each column of boxes. @type {number[][]} */
    const columns = Array.from({ length: nx * ny }, () => []);
    const at = [[0, 0, 0], [0, 0, 0], [0, 0, 0]];
    for (let f = 0; f < from.length; f += 3) {
      const x0 = cell(from[f], 0), x1 = cell(to[f], 0), y0 = cell(from[f + 1], 1), y1 = cell(to[f + 1], 1);
      const z0 = cell(from[f + 2], 2), z1 = cell(to[f + 2], 2);
      const one = x0 === x1 && y0 === y1 && z0 === z1;
      if (one) held[x0 + nx * (y0 + ny * z0)] = 1;
      // Over the middles of which columns its box lies.
      const left = Math.ceil((from[f] - low[0]) / box[0] - 0.5), last = Math.floor((to[f] - low[0]) / box[0] - 0.5);
      const front = Math.ceil((from[f + 1] - low[1]) / box[1] - 0.5), back = Math.floor((to[f + 1] - low[1]) / box[1] - 0.5);
      if (one && (left > last || front > back)) continue;
      for (let c = 0; c < 3; c++) for (let k = 0; k < 3; k++) at[c][k] = corners[3 * faces[f + c] + k];
      if (!one) sampled(at, box, (p) => { held[cell(p[0], 0) + nx * (cell(p[1], 1) + ny * cell(p[2], 2))] = 1; });
      for (let x = left; x <= last; x++) for (let y = front; y <= back; y++) {
        const z = above(at, low[0] + (x + 0.5) * box[0], low[1] + (y + 0.5) * box[1]);
        if (z !== null) columns[x + nx * y].push(z);
      }
    }
    // What lies within the part holds something without a facet in it.
    columns.forEach((heights, n) => {
      heights.sort((a, b) => a - b);
      for (let i = 0; i + 1 < heights.length; i += 2) {
        for (let z = cell(heights[i], 2); z <= cell(heights[i + 1], 2); z++) held[n + nx * ny * z] = 1;
      }
    });
    return { counts, box, held: [...held.keys()].filter((n) => held[n]), low };
  }

  /**
   * By how much the part may be sized so that it takes no more than so many boxes that hold something.
   * Boxes are as even as can be, so that they only change where one more is needed along an axis.
   * @param {number} most @param {number[]} largest  box of a piece, mm @param {number[]} [shift]
   * @returns {number}  exact for boxes that are not moved
   */
  largestIn(most, largest, shift = [0, 0, 0]) {
    const size = [0, 1, 2].map((k) => this.high[k] - this.low[k]);
    const factors = size.flatMap((v, k) => Array.from({ length: most }, (_, n) => ((n + 1) * largest[k]) / v));
    let found = 0;
    for (const factor of factors.sort((a, b) => a - b)) {
      const held = this.cells(largest.map((v) => v / factor), shift).held.length;
      if (held <= most) found = factor;
      // Here and there a larger part takes a box less, but not half of them.
      else if (held > 2 * most) break;
    }
    return found;
  }
}

/** Points all over a facet, closer than a third of a box. @param {number[][]} at @param {number[]} box @param {(p: number[]) => void} put */
function sampled(at, box, put) {
  const longest = Math.max(...[0, 1, 2].map((k) => (Math.max(at[0][k], at[1][k], at[2][k]) - Math.min(at[0][k], at[1][k], at[2][k])) / box[k]));
  const steps = Math.min(400, Math.max(1, Math.ceil(12 * longest)));
  const point = [0, 0, 0];
  for (let i = 0; i <= steps; i++) for (let j = 0; j <= steps - i; j++) {
    // A little inside the facet: its edges may lie in the plane between two boxes.
    const u = 0.998 * (i / steps) + 0.001;
    const v = 0.998 * (j / steps) + 0.0005;
    for (let k = 0; k < 3; k++) point[k] = at[0][k] + u * (at[1][k] - at[0][k]) + v * (at[2][k] - at[0][k]);
    put(point);
  }
}

/** Height of a facet over a place, or null. @param {number[][]} at @param {number} x @param {number} y */
function above(at, x, y) {
  const [a, b, c] = at;
  const det = (b[0] - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (b[1] - a[1]);
  if (det === 0) return null;
  const u = ((x - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (y - a[1])) / det;
  const v = ((b[0] - a[0]) * (y - a[1]) - (x - a[0]) * (b[1] - a[1])) / det;
  return u < 0 || v < 0 || u + v > 1 ? null : a[2] + u * (b[2] - a[2]) + v * (c[2] - a[2]);
}

/** Both ends of the twelve edges of a box, by its corners. */
const EDGES = [0, 1, 2, 3, 4, 5, 6, 7, 0, 2, 1, 3, 4, 6, 5, 7, 0, 4, 1, 5, 2, 6, 3, 7];

/**
 * Edges of the boxes that hold something, each drawn once.
 * @param {Cells} cells @returns {number[]}
 */
export function boxLines({ counts, box, held, low }) {
  const [nx, ny] = counts;
  const drawn = new Set();
  const lines = [];
  for (const n of held) {
    const at = [n % nx, Math.floor(n / nx) % ny, Math.floor(n / (nx * ny))];
    for (let e = 0; e < EDGES.length; e += 2) {
      const ends = [EDGES[e], EDGES[e + 1]].map((c) => [0, 1, 2].map((k) => at[k] + ((c >> k) & 1)));
      const name = ends.join(';');
      if (drawn.has(name)) continue;
      drawn.add(name);
      for (const end of ends) lines.push(...[0, 1, 2].map((k) => low[k] + end[k] * box[k]));
    }
  }
  return lines;
}

/** Of one unit in mm. @type {Record<string, number>} */
const MM = { '': 1, mm: 1, cm: 10, m: 1000, in: 25.4, inch: 25.4, '"': 25.4, ft: 304.8 };

/**
 * By how much a part is sized: from a length of its longest side, a percentage or a ratio of what came.
 * @param {string} typed @param {number} longest  mm now @param {number} percent  of what came, now
 * @returns {number}  0 where it makes no sense
 */
export function factorOf(typed, longest, percent) {
  const text = typed.trim().toLowerCase().replace(',', '.');
  const ratio = /^(\d+(?:\.\d+)?)\s*:\s*(\d+(?:\.\d+)?)$/.exec(text);
  const share = /^(\d+(?:\.\d+)?)\s*%$/.exec(text);
  const length = /^(\d+(?:\.\d+)?)\s*(mm|cm|m|in|inch|"|ft)?$/.exec(text);
  let factor = 0;
  if (ratio) factor = ((100 * Number(ratio[1])) / Number(ratio[2])) / percent;
  else if (share) factor = Number(share[1]) / percent;
  else if (length) factor = (Number(length[1]) * MM[length[2] ?? '']) / longest;
  return Number.isFinite(factor) && factor > 1e-4 && factor < 1e4 ? factor : 0;
}
