/**
 * Outlines on a plate: turning, moving, distances. Without a page, so that it can be tested alone.
 *
 * @typedef {{x: number, y: number, swing: number}} Place  mm and degrees
 * @typedef {{rings: Float64Array[], box: number[]}} Shape  rings of x and y in turn, and their box: x0, y0, x1, y1
 * @typedef {{gap: number, from: number[], to: number[]}} Apart  nought where they cross; the nearest places of both
 */

/** @param {number[][]} rings @param {Place} place @returns {Shape} */
export function placed(rings, { x, y, swing }) {
  const [c, s] = [Math.cos((swing * Math.PI) / 180), Math.sin((swing * Math.PI) / 180)];
  const box = [Infinity, Infinity, -Infinity, -Infinity];
  const moved = rings.map((ring) => {
    const out = new Float64Array(ring.length);
    for (let k = 0; k < ring.length; k += 2) {
      const px = c * ring[k] - s * ring[k + 1] + x, py = s * ring[k] + c * ring[k + 1] + y;
      out[k] = px;
      out[k + 1] = py;
      if (px < box[0]) box[0] = px;
      if (py < box[1]) box[1] = py;
      if (px > box[2]) box[2] = px;
      if (py > box[3]) box[3] = py;
    }
    return out;
  });
  return { rings: moved, box };
}

/** Distance of boxes: what is further apart than asked needs no closer look. @param {number[]} a @param {number[]} b */
export const boxesApart = (a, b) => Math.hypot(Math.max(0, a[0] - b[2], b[0] - a[2]), Math.max(0, a[1] - b[3], b[1] - a[3]));

/** How far two shapes are from each other. @param {Shape} one @param {Shape} other @returns {Apart} */
export function apart(one, other) {
  let best = Infinity;
  let from = [0, 0], to = [0, 0];
  const near = (a, b, flip) => {
    for (const ring of a.rings) {
      for (let k = 0; k < ring.length; k += 2) {
        const px = ring[k], py = ring[k + 1];
        // What is further from the box than the best so far is further from what is in it.
        if (best < Infinity && Math.hypot(Math.max(0, b.box[0] - px, px - b.box[2]), Math.max(0, b.box[1] - py, py - b.box[3])) >= best) continue;
        for (const edge of b.rings) {
          let x0 = edge[edge.length - 2], y0 = edge[edge.length - 1];
          for (let e = 0; e < edge.length; e += 2) {
            const x1 = edge[e], y1 = edge[e + 1], dx = x1 - x0, dy = y1 - y0;
            const long = dx * dx + dy * dy;
            const t = long > 0 ? Math.min(1, Math.max(0, ((px - x0) * dx + (py - y0) * dy) / long)) : 0;
            const qx = x0 + t * dx, qy = y0 + t * dy, d = Math.hypot(px - qx, py - qy);
            if (d < best) {
              best = d;
              from = flip ? [qx, qy] : [px, py];
              to = flip ? [px, py] : [qx, qy];
            }
            x0 = x1;
            y0 = y1;
          }
        }
      }
    }
  };
  if (crossing(one, other)) return { gap: 0, from, to };
  near(one, other, false);
  near(other, one, true);
  return { gap: best, from, to };
}

/** Whether a place is inside by the even-odd rule. @param {Shape} shape @param {number} x @param {number} y */
export function inside(shape, x, y) {
  let odd = false;
  for (const ring of shape.rings) {
    for (let k = 0, j = ring.length - 2; k < ring.length; j = k, k += 2) {
      if (ring[k + 1] > y !== ring[j + 1] > y && x < ((ring[j] - ring[k]) * (y - ring[k + 1])) / (ring[j + 1] - ring[k + 1]) + ring[k]) odd = !odd;
    }
  }
  return odd;
}

/** Whether two shapes have any area in common. @param {Shape} one @param {Shape} other */
export function crossing(one, other) {
  if (boxesApart(one.box, other.box) > 0) return false;
  for (const [a, b] of [[one, other], [other, one]]) for (const ring of a.rings) if (inside(b, ring[0], ring[1])) return true;
  for (const a of one.rings) {
    for (let k = 0, j = a.length - 2; k < a.length; j = k, k += 2) {
      const low = [Math.min(a[j], a[k]), Math.min(a[j + 1], a[k + 1])], high = [Math.max(a[j], a[k]), Math.max(a[j + 1], a[k + 1])];
      if (low[0] > other.box[2] || high[0] < other.box[0] || low[1] > other.box[3] || high[1] < other.box[1]) continue;
      for (const b of other.rings) {
        for (let e = 0, f = b.length - 2; e < b.length; f = e, e += 2) {
          if (cut(a[j], a[j + 1], a[k], a[k + 1], b[f], b[f + 1], b[e], b[e + 1])) return true;
        }
      }
    }
  }
  return false;
}

function cut(ax, ay, bx, by, cx, cy, dx, dy) {
  const side = (px, py, qx, qy, rx, ry) => (qx - px) * (ry - py) - (qy - py) * (rx - px);
  const a = side(cx, cy, dx, dy, ax, ay), b = side(cx, cy, dx, dy, bx, by);
  const c = side(ax, ay, bx, by, cx, cy), d = side(ax, ay, bx, by, dx, dy);
  return a * b < 0 && c * d < 0;
}

/** By how much a shape reaches past a plate about the origin. @param {Shape} shape @param {number[]} build */
export const pastEdge = ({ box }, [x, y]) => Math.max(-x / 2 - box[0], box[2] - x / 2, -y / 2 - box[1], box[3] - y / 2);
