/** @typedef {import('./blocks.js').LayersData} LayersData */

const PLUM = '#a264c0', HERE = '#cfdde4', LINE = '#2f5d73', ISLAND = '#c8246b', COPPER = '#b4693b', FOOT = '#d9ae8c';

/** The flat inset: one layer from above, what is new since the layer below in plum, islands in magenta. */
export class LayerPlan {
  /** @param {HTMLCanvasElement} canvas */
  constructor(canvas) {
    this.canvas = canvas;
    /** Corners of the plate that are shown: x0, y0, x1, y1, mm. @type {number[] | null} */
    this.box = null;
    /** Islands that begin in the layer that is shown. @type {any[]} */
    this.starts = [];
  }

  /** Keep the frame of a part: the same at all its layers. @param {LayersData | null} part @param {LayersData | null} support */
  frame(part, support) {
    let box = null;
    for (const layers of [part, support]) {
      if (!layers) continue;
      const p = layers.points;
      for (let i = 0; i < p.length; i += 2) {
        box ??= [p[i], p[i + 1], p[i], p[i + 1]];
        if (p[i] < box[0]) box[0] = p[i];
        if (p[i + 1] < box[1]) box[1] = p[i + 1];
        if (p[i] > box[2]) box[2] = p[i];
        if (p[i + 1] > box[3]) box[3] = p[i + 1];
      }
    }
    this.box = box;
  }

  /**
   * @param {import('./profile.js').Level | null} level  null draws nothing
   * @param {{part: LayersData | null, support: LayersData | null, footing: LayersData | null}} layers
   * @param {{layer: number, x: number, y: number}[]} islands  that start in this layer of the part
   */
  show(level, layers, islands) {
    const ratio = Math.min(window.devicePixelRatio, 2);
    const { clientWidth: w, clientHeight: h } = this.canvas;
    if (!w || !h) return;
    this.canvas.width = w * ratio;
    this.canvas.height = h * ratio;
    const c = this.canvas.getContext('2d');
    c.scale(ratio, ratio);
    this.fresh = 0;
    this.starts = [];
    if (!level || !this.box) {
      c.fillStyle = '#5b6a72';
      c.font = '11px "Atkinson Hyperlegible Next", sans-serif';
      c.textAlign = 'center';
      c.fillText(this.box ? 'choose a layer to see it from above' : 'no layers yet', w / 2, h / 2, w - 12);
      return;
    }
    const [x0, y0, x1, y1] = this.box;
    const scale = Math.min((w - 8) / Math.max(x1 - x0, 1e-6), (h - 8) / Math.max(y1 - y0, 1e-6));
    const [cx, cy] = [(x0 + x1) / 2, (y0 + y1) / 2];
    const at = (x, y) => [w / 2 + (x - cx) * scale, h / 2 - (y - cy) * scale];
    const outline = (data, index, only) => {
      const path = new Path2D();
      if (!data || index < 0 || index >= data.count) return path;
      for (let r = data.layerStart[index]; r < data.layerStart[index + 1]; r++) {
        if (only && !only(data, r)) continue;
        for (let i = data.ringStart[r]; i < data.ringStart[r + 1]; i++) {
          const [x, y] = at(data.points[2 * i], data.points[2 * i + 1]);
          if (i === data.ringStart[r]) path.moveTo(x, y);
          else path.lineTo(x, y);
        }
        path.closePath();
      }
      return path;
    };
    const footing = outline(layers.footing, level.footing);
    c.fillStyle = FOOT;
    c.fill(footing, 'evenodd');
    c.fillStyle = COPPER;
    c.fill(outline(layers.support, level.support), 'evenodd');
    const here = outline(layers.part, level.part);
    if (level.part > 0) {
      c.fillStyle = PLUM;
      c.fill(here, 'evenodd');
      c.save();
      c.clip(here, 'evenodd');
      c.fillStyle = HERE;
      c.fill(outline(layers.part, level.part - 1), 'evenodd');
      c.restore();
    } else {
      c.fillStyle = HERE;
      c.fill(here, 'evenodd');
    }
    const starts = islands.filter((i) => i.layer === level.part);
    this.starts = starts;
    this.fresh = starts.length;
    for (const island of starts) {
      c.fillStyle = ISLAND;
      c.fill(outline(layers.part, level.part, (data, r) => holds(data, r, island)), 'evenodd');
      const [x, y] = at(island.x, island.y);
      c.beginPath();
      c.arc(x, y, 4, 0, 7);
      c.fill();
    }
    c.strokeStyle = LINE;
    c.lineWidth = 0.7;
    c.stroke(here);
  }
}

/** Whether a ring of a layer goes round a point. */
function holds(data, r, { x, y }) {
  let inside = false;
  const [lo, hi] = [data.ringStart[r], data.ringStart[r + 1]];
  for (let i = lo, j = hi - 1; i < hi; j = i++) {
    const [ax, ay, bx, by] = [data.points[2 * i], data.points[2 * i + 1], data.points[2 * j], data.points[2 * j + 1]];
    if (ay > y !== by > y && x < ((bx - ax) * (y - ay)) / (by - ay) + ax) inside = !inside;
  }
  return inside;
}
