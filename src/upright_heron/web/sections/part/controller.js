import { fetchBlock, readMesh } from '../../static/js/blocks.js';
import { all, find, SectionController, the } from '../../static/js/section.js';

/** Section 1: steps through defects, and shows the part before it was mended. */
export default class PartController extends SectionController {
  /** What of the parts before and after mending is shown. @type {'before' | 'after' | 'both' | 'moved'} */
  mended = 'after';

  /** @type {number | undefined} */
  placeAt;

  /** Key of the defects that the place is one of. @type {string | null} */
  placeOf = null;

  /** Ids of the items that are ticked. @type {Set<string>} */
  ticked = new Set();

  update() {
    this.#showTicks();
    if (this.placeAt !== undefined && this.keepsPlace && find('#place-words')) {
      the('#place-words').textContent = `${this.placeAt + 1} of ${the('#places').dataset.count}`;
    }
    if (this.page.keys.before) this.#showMended(this.mended);
  }

  leave() {
    this.view.before.setMoved(null, null);
    if (this.page.keys.before) this.view.showMended('after');
    this.placeAt = undefined;
  }

  /** Another part came before this one. */
  unmended() {
    this.mended = 'after';
  }

  get keepsPlace() {
    return this.placeOf !== null && this.placeOf === this.page.state.health;
  }

  clicked(button) {
    if (button.id === 'hole-pick') this.#hole();
    else if (button.id === 'pick-cancel') this.escape();
    else if (button.dataset.many) this.#toMany(button.dataset.many, '');
    else if (button.dataset.placeStep) this.#place(Number(button.dataset.placeStep));
    else if (button.dataset.mended) this.#showMended(/** @type {'before' | 'after' | 'both' | 'moved'} */ (button.dataset.mended));
    else return false;
    return true;
  }

  escape() {
    this.unpick();
  }

  /** Pick where a hole goes in. */
  #hole() {
    this.pickPlace('Pick where the hole goes in.', (at) => {
      at.forEach((v, k) => { /** @type {HTMLInputElement} */ (the(`#hollow-form [name=${'xyz'[k]}]`)).value = v.toFixed(3); });
      /** @type {HTMLFormElement} */ (find('#hollow-form')).requestSubmit();
    });
  }

  changed(input) {
    if (input.id === 'tick-items') {
      for (const box of /** @type {HTMLInputElement[]} */ (all('[data-tick]'))) this.#tick(box.value, input.checked);
      this.#showTicks();
    } else if ('tick' in input.dataset) {
      this.#tick(input.value, input.checked);
      this.#showTicks();
    } else if (input.dataset.many && input.value) this.#toMany(input.dataset.many, input.value);
  }

  /** @param {string} item @param {boolean} on */
  #tick(item, on) {
    if (on) this.ticked.add(item);
    else this.ticked.delete(item);
  }

  #showTicks() {
    const boxes = /** @type {HTMLInputElement[]} */ (all('[data-tick]'));
    for (const box of boxes) box.checked = this.ticked.has(box.value);
    const head = /** @type {HTMLInputElement | null} */ (find('#tick-items'));
    if (head) head.checked = boxes.length > 0 && boxes.every((box) => box.checked);
  }

  /** Change all items that are ticked. @param {string} what @param {string} value */
  #toMany(what, value) {
    const form = /** @type {HTMLFormElement} */ (the('#items-form'));
    /** @type {HTMLInputElement} */ (form.elements.namedItem('what')).value = what;
    /** @type {HTMLInputElement} */ (form.elements.namedItem('value')).value = value;
    form.requestSubmit();
  }

  key(event) {
    if (event.key === 'b') this.#showMended(this.mended === 'before' ? 'after' : 'before');
    else if (event.key === 'n' || event.key === 'p') this.#place(event.key === 'n' ? 1 : -1);
    else return false;
    return true;
  }

  /** Colour the part by how far it moved. */
  async #showMoved() {
    const { mesh, moved } = this.page.state;
    if (!moved) return;
    const [data, distances] = await Promise.all([fetchBlock(`/api/blocks/meshes/${mesh}`), fetchBlock(`/api/blocks/any/moved/${moved}`)]);
    if (this.mended !== 'moved' || this.page.store.open !== 'part') return;
    this.view.before.setMoved(readMesh(data), new Float32Array(distances));
  }

  /** Step through the defects. @param {number} step  1 on, -1 back */
  async #place(step) {
    const list = find('#places');
    const { health } = this.page.state;
    if (!list || !health) return;
    const count = Number(list.dataset.count);
    const same = this.placeOf === health;
    this.placeOf = health;
    this.placeAt = same && this.placeAt !== undefined ? (this.placeAt + step + count) % count : (step > 0 ? 0 : count - 1);
    const answer = await fetch(`/api/blocks/health/${health}/${this.placeAt}`);
    if (!answer.ok) return;
    const place = await answer.json();
    if (this.page.store.open !== 'part') return;
    this.view.setPlace(place);
    the('#place-words').textContent = `${this.placeAt + 1} of ${count}: ${place.words}`;
    document.body.dataset.place = String(this.placeAt);
  }

  /** Show the part before mending, after it, both, or what moved. @param {'before' | 'after' | 'both' | 'moved'} which */
  #showMended(which) {
    if (!this.page.state.before || this.page.store.open !== 'part') return;
    this.mended = which;
    this.view.before.setMoved(null, null);
    this.view.showMended(which === 'moved' ? 'after' : which);
    if (which === 'moved') this.#showMoved();
    const key = find('#moved-key');
    if (key) key.hidden = which !== 'moved';
    for (const b of all('[data-mended]')) b.setAttribute('aria-pressed', String(b.dataset.mended === which));
  }
}
