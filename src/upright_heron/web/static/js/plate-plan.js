import { apart, boxesApart, pastEdge, placed } from './outlines.js';

const SVG = 'http://www.w3.org/2000/svg';
/** A dragged outline goes to the gap when it comes so near to it, mm. */
const SNAP_MM = 2.5;
/** Drawn outlines are rounded: what is past the edge or too near by less is not, mm. */
const DRAWN_MM = 0.06;
/** What is typed or nudged is rounded like this, mm. */
const round = (v) => Math.round(v * 1000) / 1000;

/**
 * @typedef {{item: string, copy: number, x: number, y: number, swing: number, placed: boolean, locks: boolean[], tie: number}} Instance
 * @typedef {{rings: number[][], high: number, number: number, name: string}} OutlineData
 * @typedef {{plate: number, plates: number, build: number[], spot: number[], worn: number[][], gap: number, edge: number, outlines: Record<string, OutlineData>, instances: Instance[]}} Plan
 */

/** A plate from above: what stands on it is dragged, swung, nudged, and told what it comes too near to. */
export class PlatePlan {
  /**
   * @param {SVGSVGElement} svg
   * @param {{told: (words: string, wrong: boolean) => void, put: (one: Instance) => void, picked: (one: Instance | null) => void, choice: (some: Instance[]) => void}} page
   */
  constructor(svg, page) {
    this.svg = svg;
    this.page = page;
    /** @type {Plan | null} */
    this.plan = null;
    /** What is picked, as item and copy. */
    this.key = '';
    /** What was found of each, by item and copy. @type {Map<string, {near: string[], bad: string}>} */
    this.judged = new Map();
    /** What is picked beside it, to be tied together. @type {Set<string>} */
    this.more = new Set();
    /** @type {{one: Instance, at: number[], was: Instance, swings: boolean, tied: {one: Instance, was: Instance}[], adds: boolean} | null} */
    this.drag = null;
    svg.addEventListener('keydown', (e) => this.#pressed(e));
    svg.addEventListener('pointerdown', (e) => this.#down(e));
    svg.addEventListener('pointermove', (e) => this.#move(e));
    for (const kind of ['pointerup', 'pointercancel']) svg.addEventListener(kind, () => this.#up());
  }

  /** @param {Plan} plan */
  show(plan) {
    if (this.drag) return;
    this.plan = plan;
    this.draw();
  }

  /** All that is picked. @returns {Instance[]} */
  get picked() {
    return this.plan?.instances.filter((one) => this.#key(one) === this.key || this.more.has(this.#key(one))) ?? [];
  }

  /** What one is tied to. @param {Instance} one */
  #tied(one) {
    return this.plan?.instances.filter((other) => one.tie && other.tie === one.tie && other !== one) ?? [];
  }

  get chosen() {
    return this.plan?.instances.find((one) => this.#key(one) === this.key) ?? null;
  }

  /** @param {Instance} one */
  #key(one) {
    return `${one.item} ${one.copy}`;
  }

  /** @param {Instance} one */
  #shape(one) {
    return placed(/** @type {Plan} */ (this.plan).outlines[one.item].rings, one);
  }

  /** What one comes too near to, and how near it comes to the nearest. @param {Instance} one @param {Instance[]} [but]  which do not count */
  judge(one, but = []) {
    const { instances, gap, build, outlines } = /** @type {Plan} */ (this.plan);
    const mine = this.#shape(one);
    let nearest = { gap: Infinity, from: [0, 0], to: [0, 0] };
    const near = [];
    for (const other of instances) {
      if (other === one || but.includes(other)) continue;
      const shape = this.#shape(other);
      if (boxesApart(mine.box, shape.box) > gap + 40) continue;
      const found = apart(mine, shape);
      if (found.gap < nearest.gap) nearest = found;
      if (found.gap < gap - DRAWN_MM) near.push(this.#key(other));
    }
    return { past: pastEdge(mine, build), near, nearest, high: outlines[one.item].high - build[2] };
  }

  draw() {
    const { svg, plan } = this;
    if (!plan) return;
    const [x, y] = plan.build;
    const room = Math.max(x, y) * 0.06;
    svg.setAttribute('viewBox', `${-x / 2 - room} ${-y / 2 - room} ${x + 2 * room} ${y + 2 * room + room * 0.6}`);
    const unit = Math.max(x, y) / 100;
    svg.style.setProperty('--unit', String(unit));
    const lines = [];
    const step = Math.max(x, y) > 400 ? 50 : 10;
    for (let k = -Math.floor(x / 2 / step); k <= x / 2 / step; k++) lines.push(`M${k * step} ${-y / 2}V${y / 2}`);
    for (let k = -Math.floor(y / 2 / step); k <= y / 2 / step; k++) lines.push(`M${-x / 2} ${k * step}H${x / 2}`);
    svg.replaceChildren();
    const defs = this.#add(svg, 'defs', {});
    const hatch = this.#add(defs, 'pattern', { id: 'worn-hatch', width: unit, height: unit, patternUnits: 'userSpaceOnUse', patternTransform: 'rotate(45)' });
    this.#add(hatch, 'path', { d: `M0 0V${unit}`, class: 'hatch' });
    this.#add(svg, 'rect', { x: -x / 2, y: -y / 2, width: x, height: y, class: 'bed' });
    this.#add(svg, 'path', { d: lines.join(''), class: 'grid' });
    for (const [wx, wy, r] of plan.worn) this.#add(svg, 'circle', { cx: wx, cy: -wy, r, class: 'worn' });
    const [sx, sy] = plan.spot;
    this.#add(svg, 'path', { d: `M${sx - unit} ${-sy}h${2 * unit}M${sx} ${-sy - unit}v${2 * unit}`, class: 'spot' });
    const front = this.#add(svg, 'text', { x: 0, y: y / 2 + room * 0.7, class: 'front' });
    front.textContent = 'front: here one stands';
    front.setAttribute('font-size', String(2.2 * unit));
    this.names = new Map();
    for (const one of plan.instances) this.#drawn(one, unit);
    this.mark();
  }

  /** @param {Element} into @param {string} name @param {Record<string, unknown>} values */
  #add(into, name, values) {
    const made = document.createElementNS(SVG, name);
    for (const [key, value] of Object.entries(values)) made.setAttribute(key, String(value));
    into.append(made);
    return /** @type {SVGElement} */ (made);
  }

  /** @param {Instance} one @param {number} unit */
  #drawn(one, unit) {
    const plan = /** @type {Plan} */ (this.plan);
    const { rings, number, name } = plan.outlines[one.item];
    const group = this.#add(this.svg, 'g', { class: 'lying', tabindex: 0, role: 'button', 'data-key': this.#key(one), 'aria-label': `${number} ${name}${one.copy > 1 ? `, copy ${one.copy}` : ''}` });
    const d = rings.map((ring) => {
      let path = '';
      for (let k = 0; k < ring.length; k += 2) path += `${k ? 'L' : 'M'}${ring[k]} ${-ring[k + 1]}`;
      return `${path}Z`;
    }).join('');
    this.#add(group, 'path', { d, class: 'silhouette', 'fill-rule': 'evenodd' });
    const label = this.#add(this.svg, 'text', { class: 'number', 'font-size': 2.4 * unit });
    label.textContent = `${number}${one.copy > 1 ? `·${one.copy}` : ''}${one.locks.some(Boolean) ? ' ⚓' : ''}${one.tie ? ` ⚯${one.tie}` : ''}`;
    const handle = this.#add(this.svg, 'g', { class: 'swing', 'data-key': this.#key(one) });
    this.#add(handle, 'path', { class: 'arm' });
    this.#add(handle, 'circle', { r: 1.3 * unit });
    this.names.set(this.#key(one), { group, label, handle });
    this.#stand(one);
  }

  /** Put what is drawn of one where it is. @param {Instance} one */
  #stand(one) {
    const drawn = this.names?.get(this.#key(one));
    if (!drawn || !this.plan) return;
    drawn.group.setAttribute('transform', `translate(${one.x} ${-one.y}) rotate(${-one.swing})`);
    const { box } = this.#shape(one);
    const unit = Math.max(...this.plan.build.slice(0, 2)) / 100;
    drawn.label.setAttribute('x', String((box[0] + box[2]) / 2));
    drawn.label.setAttribute('y', String(-(box[1] + box[3]) / 2 + 0.8 * unit));
    const reach = Math.max(box[2] - box[0], box[3] - box[1]) / 2 + 3 * unit;
    const turn = (one.swing * Math.PI) / 180;
    const [hx, hy] = [one.x + reach * Math.cos(turn), one.y + reach * Math.sin(turn)];
    drawn.handle.querySelector('circle')?.setAttribute('cx', String(hx));
    drawn.handle.querySelector('circle')?.setAttribute('cy', String(-hy));
    drawn.handle.querySelector('path')?.setAttribute('d', `M${one.x} ${-one.y}L${hx} ${-hy}`);
  }

  /** Mark what is picked, and what is off the plate, too near to another or too tall. */
  mark() {
    const plan = this.plan;
    if (!plan) return;
    this.judged = new Map();
    for (const one of plan.instances) {
      this.#judged(one);
      const drawn = this.names?.get(this.#key(one));
      const mine = this.#key(one) === this.key;
      drawn?.group.classList.toggle('also', this.more.has(this.#key(one)));
      drawn?.group.classList.toggle('chosen', mine);
      drawn?.handle.classList.toggle('chosen', mine);
    }
    this.#wrong();
  }

  /** What was moved, and what is or was too near to it: nothing else has changed. @param {Instance[]} moved */
  #markRound(moved) {
    const keys = new Set(moved.flatMap((one) => this.judged.get(this.#key(one))?.near ?? []));
    for (const one of moved) for (const key of this.#judged(one)) keys.add(key);
    for (const one of this.plan?.instances ?? []) if (keys.has(this.#key(one)) && !moved.includes(one)) this.#judged(one);
    this.#wrong();
  }

  /** Judge one and mark it; what it is too near to. @param {Instance} one @returns {string[]} */
  #judged(one) {
    const { past, near, high } = this.judge(one);
    const bad = past > DRAWN_MM || high > 0.001 ? 'off' : near.length ? 'near' : 'good';
    this.names?.get(this.#key(one))?.group.setAttribute('data-state', bad);
    this.judged.set(this.#key(one), { near, bad });
    return near;
  }

  #wrong() {
    this.svg.dataset.wrong = String([...this.judged.values()].filter((one) => one.bad !== 'good').length);
    this.tell();
  }

  tell() {
    const { plan, chosen } = this;
    if (!plan) return;
    this.page.choice(this.picked);
    const wrong = Number(this.svg.dataset.wrong);
    if (!chosen) {
      const said = wrong ? `${wrong}${wrong === 1 ? ' is' : ' are'} too near, off the plate or too tall` : `all ${plan.gap} mm apart or more`;
      this.page.told(plan.instances.length > 1 || wrong ? said : 'on the plate', wrong > 0);
      return;
    }
    const { past, near, nearest, high } = this.judge(chosen);
    const { number, name } = plan.outlines[chosen.item];
    const words = [`${number} ${name}${chosen.copy > 1 ? `, copy ${chosen.copy}` : ''}`, `x ${chosen.x.toFixed(1)}, y ${chosen.y.toFixed(1)} mm, swing ${Number(chosen.swing.toFixed(1))}°`];
    if (past > DRAWN_MM) words.push(`${past.toFixed(1)} mm past the edge`);
    else words.push(`${Math.max(0, -past).toFixed(1)} mm to the edge`);
    if (high > 0.001) words.push(`${high.toFixed(1)} mm too tall`);
    if (nearest.gap < Infinity) words.push(nearest.gap > 0 ? `${nearest.gap.toFixed(1)} mm to the nearest` : 'crosses another');
    this.page.told(words.join(' · '), past > DRAWN_MM || near.length > 0 || high > 0.001);
  }

  /** Place on the plate below the pointer, mm. @param {PointerEvent} e */
  #at(e) {
    const matrix = this.svg.getScreenCTM();
    if (!matrix) return [0, 0];
    const p = new DOMPoint(e.clientX, e.clientY).matrixTransform(matrix.inverse());
    return [p.x, -p.y];
  }

  /** @param {PointerEvent} e */
  #down(e) {
    const hit = /** @type {Element} */ (e.target).closest('[data-key]');
    const one = this.plan?.instances.find((i) => this.#key(i) === /** @type {HTMLElement | null} */ (hit)?.dataset.key);
    const adds = Boolean(one && e.shiftKey && this.key);
    if (!adds) this.pick(one ?? null);
    if (!one || !hit) return;
    e.preventDefault();
    this.svg.setPointerCapture(e.pointerId);
    const tied = this.#tied(one).map((other) => ({ one: other, was: { ...other } }));
    this.drag = { one, at: this.#at(e), was: { ...one }, swings: hit.classList.contains('swing'), tied, adds };
  }

  /** @param {PointerEvent} e */
  #move(e) {
    if (!this.drag) return;
    const { one, at, was, swings, tied } = this.drag;
    const [x, y] = this.#at(e);
    if (swings) {
      if (one.locks[2]) return;
      const turn = (Math.atan2(y - one.y, x - one.x) * 180) / Math.PI;
      one.swing = e.shiftKey ? Math.round(turn * 10) / 10 : Math.round(turn / 5) * 5;
    } else {
      if (!one.locks[0]) one.x = was.x + x - at[0];
      if (!one.locks[1]) one.y = was.y + y - at[1];
      if (!e.shiftKey) this.#snap(one);
    }
    this.#stand(one);
    for (const other of tied) this.#carry(other.one, other.was, was, one);
    this.#markRound([one, ...tied.map((other) => other.one)]);
  }

  /** Move what is tied to another as that has moved. @param {Instance} one @param {Instance} was @param {Instance} old @param {Instance} now */
  #carry(one, was, old, now) {
    const turn = ((now.swing - old.swing) * Math.PI) / 180;
    const [x, y] = [was.x - old.x, was.y - old.y];
    one.x = now.x + Math.cos(turn) * x - Math.sin(turn) * y;
    one.y = now.y + Math.sin(turn) * x + Math.cos(turn) * y;
    one.swing = was.swing + now.swing - old.swing;
    this.#stand(one);
  }

  /** Let an outline that comes near to another keep just the gap. @param {Instance} one */
  #snap(one) {
    const plan = /** @type {Plan} */ (this.plan);
    const { nearest } = this.judge(one, this.#tied(one));
    const off = plan.gap - nearest.gap;
    if (nearest.gap <= 0 || nearest.gap === Infinity || Math.abs(off) > SNAP_MM || one.locks[0] || one.locks[1]) return;
    const [dx, dy] = [nearest.from[0] - nearest.to[0], nearest.from[1] - nearest.to[1]];
    one.x += (dx / nearest.gap) * off;
    one.y += (dy / nearest.gap) * off;
  }

  #up() {
    if (!this.drag) return;
    const { one, was, adds } = this.drag;
    this.drag = null;
    if (adds && one.x === was.x && one.y === was.y && one.swing === was.swing) this.#alsoPick(one);
    else this.#settle(one, was);
  }

  /** Pick one beside what is picked, or leave it out again. @param {Instance} one */
  #alsoPick(one) {
    const key = this.#key(one);
    if (key === this.key) return;
    if (!this.more.delete(key)) this.more.add(key);
    this.mark();
  }

  /** Enter picks what the keys have come to, with Shift beside what is picked. @param {KeyboardEvent} e */
  #pressed(e) {
    if (e.key !== 'Enter' && e.key !== ' ') return;
    const key = /** @type {Element} */ (e.target).getAttribute('data-key');
    const one = this.plan?.instances.find((i) => this.#key(i) === key);
    if (!one) return;
    e.preventDefault();
    if (e.shiftKey && this.key) this.#alsoPick(one);
    else this.pick(one);
  }

  /** Keep a place that was changed. @param {Instance} one @param {Instance} was */
  #settle(one, was) {
    one.x = round(one.x);
    one.y = round(one.y);
    one.swing = round(one.swing > 180 ? one.swing - 360 : one.swing < -180 ? one.swing + 360 : one.swing);
    if (one.x === round(was.x) && one.y === round(was.y) && one.swing === round(was.swing)) return;
    one.placed = true;
    this.#stand(one);
    this.mark();
    this.page.put(one);
  }

  /** @param {Instance | null} one */
  pick(one) {
    const key = one ? this.#key(one) : '';
    if (this.more.size) {
      this.more.clear();
      this.mark();
    }
    if (key === this.key) return;
    this.key = key;
    this.mark();
    this.page.picked(one);
  }

  /** @param {KeyboardEvent} event @returns {boolean} whether it was meant */
  nudge(event) {
    const one = this.chosen;
    if (!one) return false;
    const by = event.shiftKey ? 10 : event.altKey ? 0.1 : 1;
    const ways = { ArrowLeft: [-1, 0, 0], ArrowRight: [1, 0, 0], ArrowUp: [0, 1, 0], ArrowDown: [0, -1, 0], ',': [0, 0, 5], '.': [0, 0, -5] };
    const way = ways[/** @type {keyof typeof ways} */ (event.key)];
    if (!way) return false;
    const was = { ...one };
    if (!one.locks[0]) one.x += way[0] * by;
    if (!one.locks[1]) one.y += way[1] * by;
    if (!one.locks[2]) one.swing += way[2];
    for (const other of this.#tied(one)) this.#carry(other, { ...other }, was, one);
    this.#settle(one, was);
    return true;
  }
}
