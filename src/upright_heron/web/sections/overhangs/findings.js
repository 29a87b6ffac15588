import { all } from '../../static/js/section.js';

/**
 * @typedef {object} Finding
 * @property {string} id
 * @property {string} family
 * @property {number} number
 * @property {string} name
 * @property {string} state
 * @property {number} z  mm above the plate
 * @property {number[]} at  x, y, z
 */

/** @param {string} selector @returns {any} */
const $ = (selector) => document.querySelector(selector);
const ORDER = ['to do', 'accepted', 'carries itself', 'held'];

/** The list of findings: sorts, filters, steps through, lets one be. It keeps its choice when the sheet is swapped. */
export class FindingList {
  /**
   * @param {{send: (url: string, values: Record<string, unknown>) => Promise<void>}} page
   * @param {(finding: Finding) => void} chosen
   */
  constructor(page, chosen) {
    this.page = page;
    this.told = chosen;
    /** @type {string | null} */
    this.id = null;
    this.family = '';
    this.state = '';
    this.order = 'z';
    document.addEventListener('click', (e) => {
      const row = /** @type {HTMLElement | null} */ (/** @type {HTMLInputElement} */ (e.target).closest?.('#finding-list tr[data-finding]'));
      if (row) this.choose(row.dataset.finding);
      else if (/** @type {HTMLInputElement} */ (e.target).id === 'look-again') this.#accept(true);
    });
    document.addEventListener('submit', (e) => {
      if (/** @type {HTMLInputElement} */ (e.target).id !== 'accept-form') return;
      e.preventDefault();
      this.#accept(false);
    });
    document.addEventListener('change', (e) => {
      const field = { 'show-family': 'family', 'show-state': 'state', 'sort-by': 'order' }[/** @type {HTMLInputElement} */ (e.target).id];
      if (!field) return;
      this[field] = /** @type {HTMLInputElement} */ (e.target).value;
      this.#arrange();
    });
  }

  /** Rows that are shown, in their order. @returns {HTMLElement[]} */
  get rows() {
    return all('#finding-list tr[data-finding]').filter((row) => !row.hidden);
  }

  /** After a new sheet has come: the same order, filter and choice. */
  follow() {
    if (!$('#finding-list')) return;
    for (const [id, value] of [['show-family', this.family], ['show-state', this.state], ['sort-by', this.order]]) {
      const field = /** @type {HTMLSelectElement} */ (document.getElementById(id));
      if ([...field.options].some((o) => o.value === value)) field.value = value;
      else field.value = '';
    }
    this.#arrange();
    const row = this.id && document.getElementById(`finding-${this.id}`);
    if (row) this.#mark(row);
  }

  #arrange() {
    const body = $('#finding-list tbody');
    const rows = [...body.rows];
    const size = (row) => -Number(row.dataset.area);
    const by = { z: (r) => Number(r.dataset.z), area: size, state: (r) => ORDER.indexOf(r.dataset.state) }[this.order];
    rows.sort((a, b) => by(a) - by(b) || Number(a.dataset.z) - Number(b.dataset.z));
    for (const row of rows) {
      row.hidden = Boolean((this.family && row.dataset.family !== this.family) || (this.state && row.dataset.state !== this.state));
    }
    body.append(...rows);
  }

  /** @param {number} by  1 on, -1 back */
  step(by) {
    const { rows } = this;
    if (!rows.length) return;
    const at = rows.findIndex((row) => row.dataset.finding === this.id);
    const next = at < 0 ? (by > 0 ? 0 : rows.length - 1) : (at + by + rows.length) % rows.length;
    this.choose(rows[next].dataset.finding);
  }

  /** The next one above a height, for the height profile. @param {number} z  mm above the plate */
  above(z) {
    const open = this.rows.filter((row) => Number(row.dataset.z) > z + 1e-6).sort((a, b) => Number(a.dataset.z) - Number(b.dataset.z));
    if (open.length) this.choose(open[0].dataset.finding);
  }

  /** @param {string} id */
  choose(id) {
    const row = document.getElementById(`finding-${id}`);
    if (!row) return;
    this.id = id;
    this.#mark(row);
    row.scrollIntoView({ block: 'nearest' });
    const { family, name, state, number, z, at } = row.dataset;
    this.told({ id, family, name, state, number: Number(number), z: Number(z), at: at.split(',').map(Number) });
  }

  /** Choose the support's or tag's finding by its name, such as island 3. @param {string} name */
  named(name) {
    const row = $(`#finding-list tr[data-name="${name}"]`);
    if (row) this.choose(row.dataset.finding);
  }

  #mark(row) {
    for (const other of document.querySelectorAll('#finding-list tr.chosen')) other.classList.remove('chosen');
    row.classList.add('chosen');
    const { name, reason, state, note, by } = row.dataset;
    const held = state === 'held' ? ` Held by ${by} support${by === '1' ? '' : 's'}.` : '';
    $('#finding-words').textContent = `${name[0].toUpperCase()}${name.slice(1)}: ${reason}${held}${note ? ` Note: ${note}` : ''}`;
    $('#finding-slip').hidden = false;
    const open = state === 'to do';
    $('#accept').hidden = $('#accept-note').hidden = !open;
    $('#look-again').hidden = state !== 'accepted';
  }

  #accept(back) {
    const row = this.id && document.getElementById(`finding-${this.id}`);
    if (!row) return;
    const values = { finding: this.id, name: row.dataset.name, note: $('#accept-note').value, back: String(back) };
    this.page.send($('#findings').dataset.accept, values);
  }
}
