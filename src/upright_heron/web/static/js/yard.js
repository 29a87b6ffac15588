import { LengthEcho } from './length.js';
import { Uploads } from './uploads.js';

/** Finding jobs again: words narrow the cards, a choice orders them; both stay when the cards are drawn anew. */
class Shelf {
  constructor() {
    this.search = /** @type {HTMLInputElement | null} */ (document.querySelector('#search'));
    this.sort = /** @type {HTMLInputElement | null} */ (document.querySelector('#sort'));
    this.search.addEventListener('input', () => this.#apply());
    this.sort.addEventListener('change', () => this.#apply());
    document.body.addEventListener('htmx:after:swap', () => this.#apply());
  }

  #apply() {
    const list = document.querySelector('#jobs');
    if (!list) return;
    const words = this.search.value.toLowerCase().split(/\s+/).filter(Boolean);
    const cards = /** @type {HTMLElement[]} */ ([...list.children]);
    let shown = 0;
    for (const card of cards) {
      card.hidden = !words.every((word) => card.dataset.name.includes(word));
      shown += card.hidden ? 0 : 1;
    }
    /** @type {HTMLElement} */ (document.querySelector('#none-found')).hidden = shown > 0;
    const by = this.sort.value;
    const order = (a, b) => (by === 'title' ? a.dataset.title.localeCompare(b.dataset.title) : Number(a.dataset[by]) - Number(b.dataset[by]));
    list.append(...cards.sort(order));
  }
}

/** What new jobs are for: materials go with the printer; what was used last at this browser stands first. */
class Machine {
  constructor() {
    this.printer = /** @type {HTMLSelectElement} */ (document.querySelector('#for-printer'));
    this.material = /** @type {HTMLSelectElement} */ (document.querySelector('#for-material'));
    this.printer.addEventListener('change', () => this.#match());
    this.#match();
  }

  #match() {
    const technology = this.printer.selectedOptions[0].dataset.technology;
    for (const option of this.material.options) {
      option.hidden = option.disabled = Boolean(option.value) && option.dataset.technology !== technology;
    }
    if (this.material.selectedOptions[0]?.disabled) this.material.value = '';
  }
}

window.heronMachine = new Machine();
window.heronUploads = new Uploads(null, Number(/** @type {HTMLElement} */ (document.querySelector('#yard')).dataset.uploadMb) * 1e6);
window.heronShelf = new Shelf();
window.heronLengths = new LengthEcho();
