/** Says under a field with a length what was understood, as soon as more than a plain number is typed. */
export class LengthEcho {
  constructor() {
    this.slip = document.createElement('output');
    this.slip.className = 'understood';
    this.slip.id = 'understood';
    document.addEventListener('input', (e) => this.#read(/** @type {HTMLInputElement} */ (e.target)));
    document.addEventListener('focusout', () => this.slip.remove());
  }

  /** @param {HTMLInputElement} field */
  async #read(field) {
    if (!field.matches?.('input:is([name$="_mm"], [data-length])')) return;
    const text = field.value.trim();
    const turn = (this.turn = (this.turn ?? 0) + 1);
    if (!text || /^-?[\d.]+$/.test(text)) {
      this.slip.remove();
      return;
    }
    const answer = await fetch(`/api/length?text=${encodeURIComponent(text)}`);
    if (!answer.ok) return;
    const said = await answer.json();
    if (turn !== this.turn || document.activeElement !== field) return;
    this.slip.textContent = said.words;
    this.slip.classList.toggle('wrong', said.mm === null);
    const box = field.getBoundingClientRect();
    this.slip.style.left = `${box.left}px`;
    this.slip.style.top = `${box.bottom + 2}px`;
    document.body.append(this.slip);
  }
}
