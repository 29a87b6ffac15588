import { CellCounter, factorOf } from '../../static/js/cells.js';
import { field, find, SectionController, the } from '../../static/js/section.js';

/** Section 3: the pieces, pulled apart. */
export default class SplitController extends SectionController {
  /** Number of the piece that is lit up, 0 for none. */
  lit = 0;

  /** Surface that boxes were counted on last. @type {import('../../static/js/blocks.js').MeshData | null} */
  counted = null;

  constructor(page) {
    super(page);
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
      if (target instanceof HTMLInputElement && (target.id === 'live-size' || target.id === 'margin')) this.#count();
    });
    sheet.addEventListener('change', ({ target }) => {
      if (target instanceof HTMLSelectElement && target.id === 'plane-axis') {
        for (const axis of 'xyz') field(`#new-plane [name=n${axis}]`).value = axis === target.value ? '1' : '0';
      }
    });
  }

  /** The piece of the row that is pointed at, with its neighbours. @param {Event} event */
  lightUp({ target }) {
    const row = target instanceof Element ? target.closest('#pieces tr[data-piece]') : null;
    const picked = row instanceof HTMLElement ? Number(row.dataset.piece) : 0;
    if (picked === this.lit) return;
    this.lit = picked;
    this.view.pieces.lightUp(picked, picked ? row.children[3].textContent.split(',').map(Number) : []);
    this.view.redraw();
  }

  update() {
    the('#pull-slip').hidden = !this.pieces;
    this.#count();
  }

  leave() {
    the('#pull-slip').hidden = true;
    this.view.showCells(null);
  }

  clicked(button) {
    if (button.id !== 'largest-whole') return false;
    const { size } = this.#cells(1);
    const share = Math.min(...[0, 1, 2].map((k) => this.#largest()[k] / size[k]));
    // A hair less: figures are rounded where they are shown.
    field('#live-size').value = String(Math.floor(share * Number(the('#live-form').dataset.longest) * 100) / 100);
    this.#count();
    return true;
  }

  /** What each piece has to fit: the build volume less its margins and the pegs. @returns {number[]} */
  #largest() {
    const margin = Number(field('#margin').value.replace(',', '.')) || 0;
    const out = Number(the('#live-form').dataset.standsOut);
    const [x, y, z] = this.page.state.build;
    return [x - 2 * margin - out, y - 2 * margin - out, z - margin - out].map((v) => Math.max(v, 1));
  }

  /** Boxes of the part, sized by a factor. @param {number} factor */
  #cells(factor) {
    const { data } = this.view.part;
    if (this.counted !== data) {
      this.counted = data;
      this.counter = new CellCounter(data.vertices, data.faces);
    }
    const found = this.counter.cells(this.#largest().map((v) => v / factor));
    return { ...found, size: found.counts.map((n, k) => n * found.box[k]) };
  }

  /** Count the boxes that the typed size takes, and draw them on the part; the server is not asked. */
  #count() {
    const form = find('#live-form');
    if (!(form instanceof HTMLFormElement) || !this.view.part) return;
    const { longest, percent } = form.dataset;
    const factor = factorOf(field('#live-size').value, Number(longest), Number(percent));
    field('#live-percent').value = factor ? String(Number(percent) * factor) : '';
    /** @type {HTMLButtonElement} */ (the('#size-so')).disabled = !factor || Math.abs(factor - 1) < 1e-4;
    if (!factor) {
      the('#live-cells').textContent = 'Type a length such as 1219 mm or 48 in, a percentage, or a ratio.';
      this.view.showCells(null);
      return;
    }
    const { counts, box, held } = this.#cells(factor);
    const all = counts[0] * counts[1] * counts[2];
    the('#live-cells').textContent = all === 1 ? `Fits in one box: ${box.map((v) => (v * factor).toFixed(1)).join(' × ')} mm.`
      : `${counts.join(' × ')} boxes; ${held.length} of ${all} hold something.`;
    this.view.showCells(all > 1 && !this.pieces ? { counts, box, held } : null);
  }

  get pieces() {
    const { keys, state } = this.page;
    return Boolean(keys.split) && state.split === keys.split;
  }

  tags() {
    if (!this.pieces) return [];
    return this.view.pieces.children.slice(0, 150).map((body) => ({ text: String(body.userData.number), at: body.userData.middle, kind: 'piece', body }));
  }
}
