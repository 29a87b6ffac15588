/** @typedef {{z: number, part: number, support: number, footing: number}} Level  one layer of the whole print */

/**
 * All layers of the print from the plate up.
 * @param {object} o
 * @param {import('./blocks.js').LayersData | null} o.part
 * @param {import('./blocks.js').LayersData | null} o.support
 * @param {number} o.layer  mm
 * @param {number} o.lift  mm
 * @param {number} o.raised  mm, by a raft
 * @param {number} o.footingLayers
 * @returns {Level[]}
 */
export function levels({ part, support, layer, lift, raised, footingLayers }) {
  const below = Math.round(lift / layer);
  const total = Math.max(part ? part.count + below : 0, support ? support.count : 0);
  const found = [];
  if (raised > 0) {
    for (let k = 0; k < footingLayers; k++) found.push({ z: (k + 0.5) * layer, part: -1, support: -1, footing: k });
  }
  for (let j = 0; j < total; j++) {
    found.push({ z: raised + (j + 0.5) * layer, part: j - below, support: j, footing: raised === 0 && j < footingLayers ? j : -1 });
  }
  return found;
}

const INK = '#20303a', QUIET = '#5b6a72', LINE = '#d8d2c4', HERON = '#2f5d73', FILL = '#cfdde4', COPPER = '#b4693b', ISLAND = '#c8246b', PAPER = '#fffdf8';

/** The height profile: layer area against height, supports beside it, islands as dots; and the layer slider. */
export class HeightProfile {
  /**
   * @param {HTMLCanvasElement} canvas
   * @param {(index: number | null) => void} moved  told the new level, or null for the whole part
   */
  constructor(canvas, moved) {
    this.canvas = canvas;
    this.moved = moved;
    /** @type {Level[]} */
    this.levels = [];
    /** @type {number | null} */
    this.index = null;
    this.islands = [];
    this.steps = [];
    /** Pull of the film on each layer of the part, N, rough. @type {Float64Array | null} */
    this.peel = null;
    this.stale = false;
    /** Middles of layers (mm) and their areas (mm2) of all that stands on the plate, where that is shown. @type {{z: number[], area: number[]} | null} */
    this.whole = null;
    new ResizeObserver(() => this.draw()).observe(canvas);
    canvas.addEventListener('pointerdown', (e) => {
      canvas.setPointerCapture(e.pointerId);
      canvas.focus({ preventScroll: true });
      this.#drag(e);
    });
    canvas.addEventListener('pointermove', (e) => { if (e.buttons & 1) this.#drag(e); });
    canvas.addEventListener('wheel', (e) => { e.preventDefault(); this.step(e.deltaY > 0 ? -1 : 1); }, { passive: false });
    canvas.addEventListener('keydown', (e) => {
      const by = { ArrowUp: 1, ArrowDown: -1, PageUp: 10, PageDown: -10 }[e.key];
      if (by) this.step(by);
      else if (e.key === 'Home') this.set(0);
      else if (e.key === 'End') this.set(null);
      else return;
      e.preventDefault();
    });
  }

  /**
   * @param {Level[]} list
   * @param {{part: any, support: any}} layers
   * @param {{n: number, z: number, held: boolean}[]} islands  z above the plate, mm
   * @param {{peel: number[] | null, steps: number[]}} more  newtons for mm2 of layer and mm of outline; heights of layer steps
   */
  setData(list, layers, islands, { peel, steps }) {
    this.levels = list;
    this.layers = layers;
    this.islands = islands;
    this.steps = steps;
    this.peel = peel && layers.part ? pull(layers.part, peel) : null;
    this.other = null;
    if (this.index !== null) this.index = Math.min(this.index, list.length - 1);
    this.draw();
  }

  /**
   * Show two stances over each other, walked in step.
   * @param {{z: number, layers: (number | null)[]}[]} steps @param {import('./pair.js').Standing[]} sides
   */
  setPair(steps, sides) {
    const area = (side, index) => (index === null || index < 0 ? 0 : side.layers.area[index]);
    this.levels = steps.map((step) => ({ z: step.z, part: step.layers[0], support: -1, footing: -1 }));
    this.layers = { part: sides[0].layers, support: null };
    this.islands = [];
    this.steps = [];
    this.peel = null;
    this.other = { area: steps.map((step) => area(sides[1], step.layers[1])), letters: sides.map((s) => s.letter) };
    this.index = null;
    this.stale = false;
    this.draw();
  }

  /** Show beside it what all of the plate makes of each layer. @param {number[] | null} areas  mm2, from the plate up @param {number} layer  mm */
  setWhole(areas, layer) {
    this.whole = areas?.length ? { z: areas.map((_, k) => (k + 0.5) * layer), area: areas } : null;
    this.draw();
  }

  /** Show the curve as one of an older stance. @param {boolean} stale */
  setStale(stale) {
    this.stale = stale;
    this.draw();
  }

  get top() {
    const n = this.levels.length;
    const own = n ? this.levels[n - 1].z + (n > 1 ? (this.levels[n - 1].z - this.levels[n - 2].z) / 2 : 0) : 1;
    return Math.max(own, this.whole?.z.at(-1) ?? 0);
  }

  /** @param {number | null} index */
  set(index) {
    if (!this.levels.length) return;
    this.index = index === null ? null : Math.max(0, Math.min(this.levels.length - 1, index));
    this.draw();
    this.moved(this.index);
  }

  /** @param {number} by  layers */
  step(by) {
    if (!this.levels.length) return;
    const from = this.index ?? this.levels.length;
    const to = from + by;
    this.set(to >= this.levels.length ? null : to);
  }

  /** @param {number} z  mm above the plate */
  goTo(z) {
    const index = this.levels.findIndex((level) => level.z >= z);
    this.set(index < 0 ? null : index);
  }

  #frame() {
    const { clientWidth: w, clientHeight: h } = this.canvas;
    return { w, h, left: 34, right: w - 24, top: 26, bottom: h - 12 };
  }

  #drag(event) {
    if (!this.levels.length) return;
    const f = this.#frame();
    const z = ((f.bottom - (event.clientY - this.canvas.getBoundingClientRect().top)) / (f.bottom - f.top)) * this.top;
    if (z >= this.top) this.set(null);
    else this.goTo(Math.max(0, z - this.levels[0].z));
  }

  draw() {
    const ratio = Math.min(window.devicePixelRatio, 2);
    const f = this.#frame();
    this.canvas.width = f.w * ratio;
    this.canvas.height = f.h * ratio;
    const c = this.canvas.getContext('2d');
    c.scale(ratio, ratio);
    c.font = '11px "Atkinson Hyperlegible Next", sans-serif';
    c.textBaseline = 'middle';
    if (!this.levels.length) {
      c.fillStyle = QUIET;
      c.fillText('no layers yet', f.left, f.h / 2);
      this.#describe();
      return;
    }
    const y = (z) => f.bottom - (z / this.top) * (f.bottom - f.top);
    const { part, support } = this.layers;
    const area = this.levels.map((l) => (part && l.part !== null && l.part >= 0 && l.part < part.count ? part.area[l.part] : 0));
    const held = this.levels.map((l) => (support && l.support >= 0 && l.support < support.count ? support.area[l.support] : 0));
    const beside = this.whole?.area ?? [];
    const most = Math.max(1, area.reduce((m, a, i) => Math.max(m, a + held[i], this.other?.area[i] ?? 0), 0), beside.reduce((m, a) => Math.max(m, a), 0));
    const x = (a) => f.left + (a / most) * (f.right - f.left);
    c.globalAlpha = this.stale ? 0.45 : 1;
    const step = niceStep(this.top);
    c.strokeStyle = LINE;
    c.fillStyle = QUIET;
    c.textAlign = 'right';
    for (let z = 0; z <= this.top; z += step) {
      c.fillText(String(Math.round(z * 100) / 100), f.left - 8, y(z));
      c.beginPath();
      c.moveTo(f.left - 5, y(z));
      c.lineTo(f.left, y(z));
      c.stroke();
    }
    const shape = (from, to, fill) => {
      c.beginPath();
      this.levels.forEach((l, i) => c.lineTo(x(to[i]), y(l.z)));
      for (let i = this.levels.length - 1; i >= 0; i--) c.lineTo(x(from[i]), y(this.levels[i].z));
      c.fillStyle = fill;
      c.fill();
    };
    shape(area, area.map((a, i) => a + held[i]), 'rgb(180 105 59 / 0.55)');
    shape(area.map(() => 0), area, FILL);
    c.beginPath();
    this.levels.forEach((l, i) => c.lineTo(x(area[i]), y(l.z)));
    c.strokeStyle = HERON;
    c.lineWidth = 1.2;
    c.stroke();
    if (this.whole) {
      c.beginPath();
      this.whole.z.forEach((z, i) => c.lineTo(x(beside[i]), y(z)));
      c.strokeStyle = INK;
      c.setLineDash([5, 3]);
      c.lineWidth = 1.4;
      c.stroke();
      c.setLineDash([]);
      c.textAlign = 'right';
      c.fillStyle = INK;
      c.fillText('plate dashed', f.w - 2, 8);
    }
    if (this.other) {
      c.beginPath();
      this.levels.forEach((l, i) => c.lineTo(x(this.other.area[i]), y(l.z)));
      c.strokeStyle = COPPER;
      c.setLineDash([5, 3]);
      c.lineWidth = 1.6;
      c.stroke();
      c.setLineDash([]);
      c.textAlign = 'left';
      c.fillStyle = HERON;
      c.fillText(`${this.other.letters[0]} filled`, f.left + 4, 8);
      c.fillStyle = COPPER;
      c.fillText(`${this.other.letters[1]} dashed`, f.left + 62, 8);
    }
    this.#worst(c, f, x, y, area);
    c.strokeStyle = INK;
    c.lineWidth = 1.2;
    c.beginPath();
    c.moveTo(f.left, f.top);
    c.lineTo(f.left, f.bottom);
    c.stroke();
    let last = Infinity;
    c.textAlign = 'center';
    c.font = '600 10px "Atkinson Hyperlegible Next", sans-serif';
    for (const island of this.islands) {
      const at = y(island.z);
      // Islands close together share one number; each keeps a dot of its own beside it.
      const room = last - at > 17;
      c.beginPath();
      c.arc(room ? f.w - 9 : f.w - 21, at, room ? 8 : 2.5, 0, 7);
      // A held island is a ring, one that is still open a full dot.
      c.fillStyle = island.held && room ? PAPER : ISLAND;
      c.fill();
      if (island.held && room) {
        c.strokeStyle = ISLAND;
        c.lineWidth = 1.5;
        c.stroke();
      }
      if (room) {
        c.fillStyle = island.held ? ISLAND : '#fff';
        c.fillText(String(island.n), f.w - 9, at + 0.5);
        last = at;
      }
    }
    c.globalAlpha = 1;
    if (support && !this.stale) {
      c.fillStyle = COPPER;
      c.textAlign = 'left';
      c.font = '11px "Atkinson Hyperlegible Next", sans-serif';
      if (held.some((a) => a > 0)) c.fillText('with supports', f.left + 4, this.whole ? 20 : 12);
    }
    if (this.index !== null) {
      const level = this.levels[this.index];
      const at = y(level.z);
      c.strokeStyle = INK;
      c.lineWidth = 1.5;
      c.beginPath();
      c.moveTo(f.left - 6, at);
      c.lineTo(f.w, at);
      c.stroke();
      const text = `layer ${this.index + 1} · ${level.z.toFixed(2)}`;
      c.font = '11px "Atkinson Hyperlegible Next", sans-serif';
      const wide = c.measureText(text).width + 10;
      const up = at > f.top + 20 ? at - 19 : at + 3;
      c.fillStyle = INK;
      c.beginPath();
      c.roundRect(f.w - wide, up, wide, 16, 4);
      c.fill();
      c.fillStyle = '#fff';
      c.textAlign = 'center';
      c.fillText(text, f.w - wide / 2, up + 8.5);
    }
    this.#describe();
  }

  /** Layers that stand out: the largest, steps in area, and for resin the pull of the film and its worst. */
  #worst(c, f, x, y, area) {
    c.font = '10px "Atkinson Hyperlegible Next", sans-serif';
    c.textAlign = 'left';
    const spot = (i, at, text, colour) => {
      c.fillStyle = colour;
      c.beginPath();
      c.moveTo(at - 4, y(this.levels[i].z));
      c.lineTo(at, y(this.levels[i].z) - 4);
      c.lineTo(at + 4, y(this.levels[i].z));
      c.lineTo(at, y(this.levels[i].z) + 4);
      c.fill();
      const wide = c.measureText(text).width;
      const words = /** @type {const} */ ([text, Math.max(f.left + 3, Math.min(at + 6, f.right - wide - 2)), y(this.levels[i].z) - 8]);
      // A rim of paper: the outline may run through the word.
      c.save();
      c.strokeStyle = PAPER;
      c.lineWidth = 3;
      c.lineJoin = 'round';
      c.strokeText(...words);
      c.restore();
      c.fillText(...words);
    };
    for (const z of this.steps) {
      c.fillStyle = '#a8690f';
      c.fillRect(f.left, y(z) - 1, 9, 2);
    }
    if (this.other) return;
    const largest = area.indexOf(Math.max(...area));
    if (area[largest] > 0) spot(largest, x(area[largest]), 'largest', HERON);
    if (!this.peel) return;
    const pulls = this.levels.map((l) => (l.part >= 0 && l.part < this.peel.length ? this.peel[l.part] : 0));
    const most = Math.max(...pulls);
    if (!(most > 0)) return;
    const at = (p) => f.left + (p / most) * (f.right - f.left);
    c.beginPath();
    this.levels.forEach((l, i) => c.lineTo(at(pulls[i]), y(l.z)));
    c.strokeStyle = '#8a4a12';
    c.lineWidth = 1;
    c.setLineDash([2, 2]);
    c.stroke();
    c.setLineDash([]);
    c.fillStyle = '#8a4a12';
    c.fillText(`peel to ${most.toFixed(0)} N, rough`, f.left + 4, 22);
    const worst = pulls.indexOf(most);
    if (Math.abs(y(this.levels[worst].z) - y(this.levels[largest].z)) > 14) spot(worst, f.right, 'hardest', '#8a4a12');
  }

  #describe() {
    const n = this.levels.length;
    const now = this.index === null ? n : this.index + 1;
    this.canvas.setAttribute('aria-valuemin', '1');
    this.canvas.setAttribute('aria-valuemax', String(n));
    this.canvas.setAttribute('aria-valuenow', String(now));
    const z = this.index === null ? 'whole part' : `layer ${now} of ${n}, ${this.levels[this.index].z.toFixed(2)} mm`;
    this.canvas.setAttribute('aria-valuetext', n ? z : 'no layers yet');
  }
}

/**
 * Pull of the film on each layer: newtons for its area and for its outline, as on the server.
 * @param {import('./blocks.js').LayersData} part @param {number[]} peel @returns {Float64Array}
 */
function pull(part, [byArea, byOutline]) {
  const result = new Float64Array(part.count);
  for (let layer = 0; layer < part.count; layer++) {
    let long = 0;
    for (let r = part.layerStart[layer]; r < part.layerStart[layer + 1]; r++) {
      const [lo, hi] = [part.ringStart[r], part.ringStart[r + 1]];
      for (let i = lo, j = hi - 1; i < hi; j = i++) long += Math.hypot(part.points[2 * i] - part.points[2 * j], part.points[2 * i + 1] - part.points[2 * j + 1]);
    }
    result[layer] = byArea * part.area[layer] + byOutline * long;
  }
  return result;
}

/** @param {number} top mm @returns {number} step of the axis, mm */
function niceStep(top) {
  const raw = top / 8;
  const power = 10 ** Math.floor(Math.log10(raw));
  return [1, 2, 5, 10].map((k) => k * power).find((s) => s >= raw) ?? 10 * power;
}
