import { LengthEcho } from './length.js';
import { Uploads } from './uploads.js';

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
window.heronLengths = new LengthEcho();
