/** What a section does in the page: one controller a section, made once, told when its sheet comes and when it goes. */
export class SectionController {
  /** Facets past the limit are coloured while the section is open. */
  coloured = false;

  /** @param {import('./job.js').JobPage} page */
  constructor(page) {
    this.page = page;
    this.view = page.view;
  }

  /** The section was opened. */
  enter() {}

  /** Its sheet has come anew, or a block of the view; also right after it was opened. */
  update() {}

  /** Another section was opened. */
  leave() {}

  /** Whether the pieces of a cut are shown instead of the part. @returns {boolean} */
  get pieces() {
    return false;
  }

  /** Ask for a place of the part, which is then clicked on. @param {string} words @param {(at: number[]) => void} chosen */
  pickPlace(words, chosen) {
    the('#pick-slip').hidden = false;
    the('#pick-words').textContent = words;
    the('#pick-gives').textContent = '';
    this.view.setPicking((/** @type {number[]} */ _normal, /** @type {number[]} */ at) => {
      this.unpick();
      chosen(at);
    });
  }

  /** Ask for no place any more. */
  unpick() {
    the('#pick-slip').hidden = true;
    this.view.setPicking(null);
  }

  /** Small tags in the view. @returns {import('./labels.js').Label[]} */
  tags() {
    return [];
  }

  /** How supports are drawn. @returns {'shown' | 'faint' | 'hidden'} */
  get supports() {
    return 'shown';
  }

  /** Whether the place that is lit in the view still belongs to what is shown. @returns {boolean} */
  get keepsPlace() {
    return false;
  }

  /** A button was pressed, anywhere in the page. @param {HTMLButtonElement} _button @returns {boolean} whether it was meant */
  clicked(_button) {
    return false;
  }

  /** A field was changed. @param {HTMLInputElement} _field */
  changed(_field) {}

  /** A key was pressed while the section is open. @param {KeyboardEvent} _event @returns {boolean} whether it was meant */
  key(_event) {
    return false;
  }

  /** Another layer is shown. @param {number | null} _index of the print, null for the whole part */
  layerMoved(_index) {}

  /** Leave whatever is under way: picking, painting, comparing. */
  escape() {}
}

/** @template {Element} [T=HTMLElement] @param {string} selector @returns {T | null} */
export const find = (selector) => /** @type {T | null} */ (document.querySelector(selector));

/** An element that is always there. @template {Element} [T=HTMLElement] @param {string} selector @returns {T} */
export const the = (selector) => {
  const found = /** @type {T | null} */ (document.querySelector(selector));
  if (!found) throw new Error(`There is no ${selector} on the page`);
  return found;
};

/** @param {string} selector @returns {HTMLInputElement} */
export const field = (selector) => /** @type {HTMLInputElement} */ (the(selector));

/** @template {HTMLElement} [T=HTMLElement] @param {string} selector @returns {T[]} */
export const all = (selector) => [.../** @type {NodeListOf<T>} */ (document.querySelectorAll(selector))];

/** Areas as the server writes them. @param {number} mm2 */
export const area = (mm2) => {
  if (mm2 >= 1000) {
    const places = mm2 >= 1e5 ? 0 : 1;
    const grouped = new Intl.NumberFormat('en', { minimumFractionDigits: places, maximumFractionDigits: places });
    return `${grouped.format(mm2 / 100).replaceAll(',', '\u202f')} cm²`;
  }
  if (mm2 > 0 && mm2 < 1) return mm2 >= 0.005 ? `${mm2.toFixed(2)} mm²` : 'under 0.01 mm²';
  return `${mm2.toFixed(mm2 > 0 && mm2 < 100 ? 1 : 0)} mm²`;
};
