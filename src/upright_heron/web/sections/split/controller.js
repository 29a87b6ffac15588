import { CellCounter, factorOf } from '../../static/js/cells.js';
import { field, find, SectionController, the } from '../../static/js/section.js';
import { showState, sortRows } from '../../static/js/tables.js';

/** What is asked for while a plane is put. @type {Record<string, string>} */
const ASKED = {
  point: 'Pick the place that the plane goes through.',
  face: 'Pick the face that the plane lies in.',
  edge: 'Pick near the edge that the plane is square to.',
  three: 'Pick three places that the plane goes through.',
};

/** @param {number[]} a @param {number[]} b */
const minus = (a, b) => a.map((v, k) => v - b[k]);
/** @param {number[]} a @param {number[]} b */
const dot = (a, b) => a.reduce((sum, v, k) => sum + v * b[k], 0);
/** @param {number[]} a @param {number[]} b */
const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];

/** Section 3: the pieces, pulled apart. */
export default class SplitController extends SectionController {
  /** Number of the piece that is lit up, 0 for none. */
  lit = 0;

  /** Number of the piece that was picked in the view, 0 for none. */
  chosen = 0;

  /** Pieces that were lit last. @type {import('../../static/js/blocks.js').PiecesData | null} */
  seen = null;

  /** A plane is being put. */
  placing = false;

  /** How the table of the set is sorted, and the state that it shows. */
  sorted = { column: 1, down: false };

  shown = '';

  /** Ends the drawing of a line. @type {AbortController | null} */
  drawing = null;

  /** Surface that boxes were counted on last. @type {import('../../static/js/blocks.js').MeshData | null} */
  counted = null;

  constructor(page) {
    super(page);
    this.view.canvas.addEventListener('click', (event) => {
      if (!this.pieces || this.view.chosen || this.page.section !== this) return;
      // The end of a drag is not a click on a piece.
      if (this.view.pressed && Math.hypot(event.clientX - this.view.pressed[0], event.clientY - this.view.pressed[1]) > 4) return;
      this.chosen = this.view.pieces.at(this.view.ray(event));
      this.#light(this.chosen);
      find(`#pieces tr[data-piece="${this.chosen}"]`)?.scrollIntoView({ block: 'nearest' });
    });
    const pull = () => {
      const { value } = field('#pull');
      the('#pull-out').textContent = `${value} %`;
      this.view.pull(Number(value) / 100, field('#pull-steps').checked);
    };
    the('#pull').addEventListener('input', pull);
    the('#pull-steps').addEventListener('change', pull);
    const sheet = the('#sheet');
    for (const kind of ['pointerover', 'focusin']) sheet.addEventListener(kind, (event) => this.lightUp(event));
    sheet.addEventListener('input', ({ target }) => {
      if (!(target instanceof HTMLInputElement)) return;
      if (target.id === 'live-size' || target.id === 'margin') this.#count();
      if (target.dataset.shift !== undefined) {
        // While boxes are moved the whole part is shown.
        this.#whole();
        this.#count();
      }
      if (target.id === 'plane-at' || target.id === 'plane-slide') this.#lay(Number(target.value));
      if (target.id === 'plane-heading' || target.id === 'plane-tilt') {
        const [heading, tilt] = ['#plane-heading', '#plane-tilt'].map((id) => (Number(field(id).value) * Math.PI) / 180);
        this.#face([Math.cos(tilt) * Math.cos(heading), Math.cos(tilt) * Math.sin(heading), Math.sin(tilt)]);
      }
    });
    sheet.addEventListener('change', ({ target }) => {
      if (target instanceof HTMLSelectElement && target.id === 'set-state') {
        this.shown = target.value;
        this.#order();
      }
      if (target instanceof HTMLInputElement && target.id === 'tick-set') {
        for (const row of this.#set().tBodies[0].rows) {
          const tick = row.querySelector('input');
          if (tick && !row.hidden) tick.checked = target.checked;
        }
      }
      if (target instanceof HTMLSelectElement && target.id === 'plane-axis') {
        this.#face('xyz'.split('').map((axis) => (axis === target.value ? 1 : 0)));
      }
    });
  }

  /** The piece of the row that is pointed at, with its neighbours. @param {Event} event */
  lightUp({ target }) {
    const row = target instanceof Element ? target.closest('#sheet tr[data-piece]') : null;
    const { piece } = row instanceof HTMLElement ? row.dataset : {};
    // What was picked in the view stays lit until something else is.
    if (piece || this.lit !== this.chosen) this.#light(Number(piece ?? this.chosen));
  }

  /** Light a piece and its neighbours, and say what it is. @param {number} number  0 for none */
  #light(number) {
    if (number === this.lit) return;
    this.lit = number;
    const row = find(`#pieces tr[data-piece="${number}"]`);
    this.view.pieces.lightUp(number, (row?.dataset.beside ?? '').split(',').map(Number));
    the('#piece-slip').hidden = !row;
    if (row) {
      const cells = [.../** @type {HTMLTableRowElement} */ (row).cells].map((cell) => cell.innerText.trim());
      const made = find(`#set tr[data-piece="${number}"]`);
      const [, , stance, time, state] = made ? [.../** @type {HTMLTableRowElement} */ (made).cells].map((cell) => cell.innerText.trim()) : [];
      const told = [`Piece ${cells[0]}`, `${cells[1]} mm`, cells[2], cells[3] && `beside ${cells[3]}`, stance, time, state];
      the('#piece-told').textContent = told.filter(Boolean).join(' · ');
      the('#piece-hide').textContent = this.view.pieces.children[number - 1]?.visible === false ? 'Show' : 'Hide';
    }
    this.view.redraw();
  }

  /** Leave the lit piece out of the view, or show it again. */
  #hide() {
    const body = this.view.pieces.children[this.lit - 1];
    if (!body) return;
    this.view.pieces.show(this.lit, !body.visible);
    the('#piece-hide').textContent = body.visible ? 'Hide' : 'Show';
    the('#pieces-all').hidden = this.view.pieces.children.every((one) => one.visible);
    this.view.setTags(this.tags());
    this.view.redraw();
  }

  #showAll() {
    this.view.pieces.show(0, true);
    the('#pieces-all').hidden = true;
    the('#piece-hide').textContent = 'Hide';
    this.view.setTags(this.tags());
    this.view.redraw();
  }

  key(event) {
    if (!this.pieces || event.ctrlKey || event.metaKey || event.key.toLowerCase() !== 'h') return false;
    if (event.shiftKey) this.#showAll();
    else this.#hide();
    return true;
  }

  update() {
    this.placing = false;
    // Where other pieces have come none of them is lit.
    if (this.view.pieces.data !== this.seen) {
      this.seen = this.view.pieces.data;
      this.lit = this.chosen = 0;
      the('#piece-slip').hidden = true;
      the('#pieces-all').hidden = true;
    }
    this.view.showPlane(null);
    the('#pull-slip').hidden = !this.pieces;
    this.#count();
    this.#order();
    this.view.showKept(this.kept);
  }

  /** The table of the pieces that are items. @returns {HTMLTableElement} */
  #set() {
    return /** @type {HTMLTableElement} */ (find('#set'));
  }

  /** Sort the set again, and leave out what is not asked for: a swap brings it as the server has it. */
  #order() {
    if (!find('#set')) return;
    const states = /** @type {HTMLSelectElement} */ (find('#set-state'));
    // A state that no piece is in any more leaves nothing out.
    if (![...states.options].some((option) => option.value === this.shown)) this.shown = '';
    states.value = this.shown;
    sortRows(this.#set(), this.sorted.column, this.sorted.down);
    showState(this.#set(), this.shown);
  }

  leave() {
    the('#pull-slip').hidden = true;
    this.view.showCells(null);
    this.view.showPlane(null);
    this.view.showKept([]);
    this.escape();
  }

  clicked(button) {
    if (button.dataset.plane) {
      if (button.dataset.plane === 'line') this.#draw();
      else this.#pick(button.dataset.plane);
      return true;
    }
    if (button.id === 'piece-hide' || button.id === 'pieces-all') {
      if (button.id === 'piece-hide') this.#hide();
      else this.#showAll();
      return true;
    }
    if (button.dataset.sortBy) {
      const column = Number(button.dataset.sortBy);
      this.sorted = { column, down: this.sorted.column === column && !this.sorted.down };
      this.#order();
      return true;
    }
    if (button.id === 'keep-pick') {
      this.#keep();
      return true;
    }
    if (button.id === 'pick-cancel') this.escape();
    if (button.id !== 'largest-whole' && button.id !== 'largest-in') return false;
    this.#cells(1);
    const most = button.id === 'largest-whole' ? 1 : Math.round(Number(field('#largest-boxes').value)) || 1;
    const factor = this.counter.largestIn(Math.max(1, Math.min(400, most)), this.#largest(), this.shift);
    // A hair less: figures are rounded where they are shown.
    field('#live-size').value = String(Math.floor(factor * Number(the('#live-form').dataset.longest) * 100) / 100);
    this.#count();
    return true;
  }

  escape() {
    the('#pick-slip').hidden = true;
    this.view.setPicking(null);
    this.drawing?.abort();
  }

  /** @param {string} words */
  #ask(words) {
    the('#pick-slip').hidden = false;
    the('#pick-words').textContent = words;
    the('#pick-gives').textContent = '';
    // What is picked is the whole part.
    this.#whole();
  }

  /** Show the whole part instead of its pieces, until the sheet comes anew. */
  #whole() {
    this.placing = true;
    this.view.showPieces(false);
    this.view.setTags(this.tags());
  }

  /** Pick where the plane goes. @param {string} how  through a point, along a face, square to an edge, or through three points */
  #pick(how) {
    /** @type {number[][]} */
    const points = [];
    this.#ask(ASKED[how]);
    this.view.setPicking((/** @type {number[]} */ normal, /** @type {number[]} */ at) => {
      points.push(at);
      if (how === 'three' && points.length < 3) {
        the('#pick-gives').textContent = `${points.length} of 3`;
        return;
      }
      const square = how === 'three' ? cross(minus(points[1], points[0]), minus(points[2], points[0])) : normal;
      if (Math.hypot(...square) < 1e-6) {
        points.length = 0;
        the('#pick-gives').textContent = 'They lie in one line: pick three others.';
        return;
      }
      this.escape();
      if (how === 'edge') this.#face(this.view.part.edgeNear(at));
      else if (how !== 'point') this.#face(square);
      this.#lay(dot(this.normal, at));
    });
  }

  /** Pick a place that no cut may go near. */
  #keep() {
    this.#ask('Pick the place that is to stay whole.');
    this.view.setPicking((/** @type {number[]} */ _normal, /** @type {number[]} */ at) => {
      this.escape();
      at.forEach((v, k) => { field(`#keep-form [name=${'xyz'[k]}]`).value = v.toFixed(3); });
      /** @type {HTMLFormElement} */ (find('#keep-form')).requestSubmit();
    });
  }

  /** What is kept whole: of each its lowest and highest corner, or all corners round it. @returns {number[][]} */
  get kept() {
    const told = find('#kept-whole')?.dataset.boxes ?? '';
    return told.split(';').filter(Boolean).map((box) => box.split(',').map(Number));
  }

  /** Draw a line across the view: the plane goes through it, straight away from the eye. */
  #draw() {
    this.#ask('Draw a line across the part.');
    this.view.setPicking(() => {});
    this.drawing = new AbortController();
    const { signal } = this.drawing;
    const over = this.view.canvas.parentElement;
    /** @type {{at: number[], away: number[]} | null} */
    let from = null;
    const listen = (/** @type {string} */ kind, /** @type {(event: PointerEvent) => void} */ act) => over.addEventListener(kind, /** @type {EventListener} */ (act), { capture: true, signal });
    listen('pointerdown', (event) => {
      // The view is not turned meanwhile.
      event.stopPropagation();
      this.view.canvas.setPointerCapture(event.pointerId);
      from = this.view.part.rayThrough(this.view.ray(event));
    });
    listen('pointermove', (event) => {
      if (!from) return;
      event.stopPropagation();
      const to = this.view.part.rayThrough(this.view.ray(event));
      const square = cross(minus(to.at, from.at), from.away);
      if (Math.hypot(...square) < 1e-9) return;
      this.#face(square);
      this.#lay(dot(this.normal, from.at));
    });
    listen('pointerup', () => this.escape());
  }

  /** Normal of the plane that is about to be put. @returns {number[]} */
  get normal() {
    return ['x', 'y', 'z'].map((axis) => Number(field(`#new-plane [name=n${axis}]`).value));
  }

  /** Turn the plane. @param {number[]} normal */
  #face(normal) {
    const length = Math.hypot(...normal);
    const unit = normal.map((v) => v / length);
    const axis = unit.findIndex((v) => Math.abs(Math.abs(v) - 1) < 1e-6);
    const facing = axis < 0 ? unit : unit.map((_, k) => (k === axis ? 1 : 0));
    const [x, y, z] = facing;
    for (const [id, degrees] of /** @type {[string, number][]} */ ([['#plane-heading', Math.atan2(y, x)], ['#plane-tilt', Math.asin(Math.max(-1, Math.min(1, z)))]])) {
      if (document.activeElement !== find(id)) field(id).value = String(Math.round((degrees * 18000) / Math.PI) / 100);
    }
    facing.forEach((v, k) => { field(`#new-plane [name=n${'xyz'[k]}]`).value = String(v); });
    /** @type {HTMLSelectElement} */ (find('#plane-axis')).value = axis < 0 ? 'face' : 'xyz'[axis];
    this.#lay(0.5 * this.#range().reduce((a, b) => a + b));
  }

  /** How far the plane can be slid: over all of the part. @returns {number[]} */
  #range() {
    this.#cells(1);
    const { low, high } = this.counter;
    const ends = [0, 1].map((end) => this.normal.reduce((sum, v, k) => sum + v * ((v > 0) === (end === 1) ? high[k] : low[k]), 0));
    const slide = field('#plane-slide');
    [slide.min, slide.max] = ends.map(String);
    return ends;
  }

  /** Move the plane, and draw it. @param {number} offset  mm along its normal */
  #lay(offset) {
    if (!Number.isFinite(offset)) return;
    const at = Math.round(100 * offset) / 100;
    if (document.activeElement !== find('#plane-at')) field('#plane-at').value = String(at);
    field('#plane-slide').value = String(at);
    // While a plane is put the whole part is shown.
    this.#whole();
    this.view.showPlane(this.normal, at);
  }

  /** What each piece has to fit: the build volume less its margins and the pegs. @returns {number[]} */
  #largest() {
    const margin = Number(field('#margin').value.replace(',', '.')) || 0;
    const out = Number(the('#live-form').dataset.standsOut);
    const [x, y, z] = this.page.state.build;
    return [x - 2 * margin - out, y - 2 * margin - out, z - margin - out].map((v) => Math.max(v, 1));
  }

  /** By what shares of a box the boxes are moved. @returns {number[]} */
  get shift() {
    return [...document.querySelectorAll('[data-shift]')].map((one) => Number(/** @type {HTMLInputElement} */ (one).value));
  }

  /** Boxes of the part, sized by a factor. @param {number} factor */
  #cells(factor) {
    const { data } = this.view.part;
    if (this.counted !== data) {
      this.counted = data;
      this.counter = new CellCounter(data.vertices, data.faces);
    }
    const found = this.counter.cells(this.#largest().map((v) => v / factor), this.shift);
    return { ...found, size: [0, 1, 2].map((k) => this.counter.high[k] - this.counter.low[k]) };
  }

  /** Count the boxes that the typed size takes, and draw them on the part; the server is not asked. */
  #count() {
    const form = find('#live-form');
    if (!(form instanceof HTMLFormElement) || !this.view.part) return;
    const { longest, percent } = form.dataset;
    if (find('#plane-slide')) this.#range();
    const factor = factorOf(field('#live-size').value, Number(longest), Number(percent));
    field('#live-percent').value = factor ? String(Number(percent) * factor) : '';
    /** @type {HTMLButtonElement} */ (the('#size-so')).disabled = !factor || Math.abs(factor - 1) < 1e-4;
    if (!factor) {
      the('#live-cells').textContent = 'Type a length such as 1219 mm or 48 in, a percentage, or a ratio.';
      this.view.showCells(null);
      return;
    }
    const { counts, box, held, low } = this.#cells(factor);
    const all = counts[0] * counts[1] * counts[2];
    the('#live-cells').textContent = all === 1 ? `Fits in one box: ${box.map((v) => (v * factor).toFixed(1)).join(' × ')} mm.`
      : `${counts.join(' × ')} boxes; ${held.length} of ${all} hold something.`;
    this.view.showCells(all > 1 && !this.pieces ? { counts, box, held, low } : null);
  }

  get pieces() {
    const { keys, state } = this.page;
    return Boolean(keys.split) && state.split === keys.split && !this.placing;
  }

  tags() {
    if (!this.pieces) return [];
    return this.view.pieces.children.filter((body) => body.visible).slice(0, 150).map((body) => ({ text: String(body.userData.number), at: body.userData.middle, kind: 'piece', body }));
  }
}
