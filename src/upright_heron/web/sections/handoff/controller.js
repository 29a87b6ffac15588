import { looking } from '../../static/js/looking.js';
import { PlatePlan } from '../../static/js/plate-plan.js';
import { find, SectionController, the } from '../../static/js/section.js';

/** Section 9: the plan of a plate, on which items are moved and swung. */
export default class HandoffController extends SectionController {
  on = true;

  /** Number of the plate that is shown. */
  plate = 1;

  /** Item that the plan was turned to last, and its plate. */
  about = '';

  /** What was fetched last, by step and plate. */
  fetched = '';

  /** What the server told of it. @type {any} */
  seen = null;

  /** What is drawn beside the item. */
  drawn = '';

  constructor(page) {
    super(page);
    const svg = /** @type {SVGSVGElement} */ (find('#plate-plan'));
    this.plan = new PlatePlan(svg, {
      told: (words, wrong) => {
        the('#plan-words').textContent = words;
        the('#plan-words').classList.toggle('wrong', wrong);
      },
      put: (one) => this.page.send(`${this.#url('change')}/place?item=${one.item}`, { x_mm: one.x, y_mm: one.y, swing_deg: one.swing, copy_number: one.copy }),
      picked: (one) => this.#picked(one),
      choice: (some) => this.#choice(some),
    });
    the('#plan-plates').addEventListener('click', (e) => {
      const button = /** @type {HTMLElement} */ (e.target).closest('button');
      if (button) this.#plate(Number(button.dataset.plate));
    });
  }

  enter() {
    this.about = '';
  }

  update() {
    // The plan follows an item to its plate; otherwise it stays at the one that was turned to.
    const here = find('#all-plates')?.getAttribute('data-here');
    const about = `${this.page.state.item} ${here}`;
    if (here && about !== this.about) this.plate = Number(here);
    this.about = about;
    const button = find('#show-plan');
    button?.setAttribute('aria-pressed', String(this.on));
    if (button) button.textContent = this.on ? 'Show in 3D' : 'Show the plan';
    the('#plan-panel').hidden = !this.on || !button;
    if (button) this.#fetch();
  }

  leave() {
    the('#plan-panel').hidden = true;
    this.plan.pick(null);
    this.#around(null);
  }

  /** @param {HTMLButtonElement} button */
  clicked(button) {
    if (button.id === 'show-plan') {
      this.on = !this.on;
      this.update();
      return true;
    }
    if (button.id === 'tie') {
      const members = this.plan.picked.map((one) => ({ item: one.item, copy_number: one.copy, x_mm: one.x, y_mm: one.y, swing_deg: one.swing }));
      this.page.send(`${this.#url('change')}/tie`, { plate: this.plate, members: JSON.stringify(members) });
      return true;
    }
    if (button.id === 'untie') {
      const one = this.plan.picked.find((other) => other.tie);
      if (one) this.page.send(`${this.#url('change')}/untie?item=${one.item}`, { copy_number: one.copy });
      return true;
    }
    if (button.dataset.showPlate) {
      this.on = true;
      this.#plate(Number(button.dataset.showPlate));
      this.update();
      return true;
    }
    return false;
  }

  /** @param {KeyboardEvent} event */
  key(event) {
    return this.on && this.plan.nudge(event);
  }

  escape() {
    this.plan.pick(null);
  }

  /** @param {'change' | 'plan'} what */
  #url(what) {
    const { changeUrl, planUrl } = the('#all-plates').dataset;
    return (what === 'change' ? changeUrl : planUrl) ?? '';
  }

  /** @param {number} number */
  #plate(number) {
    this.plate = number;
    this.plan.pick(null);
    this.#fetch();
  }

  /** @param {HTMLInputElement} input */
  changed(input) {
    if (input.id === 'place-copy') this.#look(this.page.state.item, Number(input.value));
  }

  /** What may be tied together, or untied. @param {import('../../static/js/plate-plan.js').Instance[]} some */
  #choice(some) {
    const ties = new Set(some.map((one) => one.tie));
    the('#tie').hidden = some.length < 2 || (ties.size === 1 && !ties.has(0));
    the('#untie').hidden = !some.some((one) => one.tie);
  }

  /** What is picked in the plan is what the sheet speaks of. @param {import('../../static/js/plate-plan.js').Instance | null} one */
  #picked(one) {
    if (one && (this.page.state.item !== one.item || looking.copy !== one.copy)) this.#look(one.item, one.copy);
  }

  /** Have the sheet speak of a copy of an item. @param {string} item @param {number} copy */
  #look(item, copy) {
    if (item === this.page.state.item) looking.copy = copy;
    else looking.next = copy;
    const asked = `${this.page.root.dataset.sheetUrl}?open=${this.page.store.number}&item=${encodeURIComponent(item)}`;
    htmx.ajax('GET', asked, { target: '#sheet' });
  }

  /** Fetch the plate that is shown, unless nothing has changed. */
  async #fetch() {
    const plates = Number(the('#all-plates').dataset.plates);
    this.plate = Math.min(Math.max(1, this.plate), plates);
    const asked = `${this.page.state.step} ${this.plate}`;
    this.#tabs(plates);
    if (asked === this.fetched) {
      this.#around(this.seen);
      return;
    }
    this.fetched = asked;
    the('#plan-panel').setAttribute('aria-busy', 'true');
    try {
      const answer = await fetch(this.#url('plan').replace('/0/', `/${this.plate}/`));
      if (!answer.ok) throw new Error('it could not be made');
      const plan = await answer.json();
      if (asked !== `${this.page.state.step} ${this.plate}`) return;
      this.plan.show(plan);
      this.seen = plan;
      the('#plan-panel').dataset.shown = asked;
    } catch (error) {
      this.fetched = '';
      the('#plan-words').textContent = `No plan: ${/** @type {Error} */ (error).message}.`;
    } finally {
      the('#plan-panel').setAttribute('aria-busy', 'false');
    }
    this.#around(this.seen);
  }

  /**
   * In 3D, what else stands on the plate of the item that is looked at.
   * @param {any} plan  as the server tells it; nothing is drawn without one
   */
  async #around(plan) {
    const here = Number(find('#all-plates')?.getAttribute('data-here'));
    const shown = !this.on && plan?.plate === here;
    const { item } = this.page.state;
    const standing = shown ? plan.instances.filter((one) => one.item !== item || one.copy !== this.#copy(plan)) : [];
    const asked = standing.length ? `${this.fetched} ${item} ${this.#copy(plan)}` : '';
    if (asked === this.drawn) return;
    this.drawn = asked;
    const { profile, view } = this.page;
    if (!asked) profile.setWhole(null, 0);
    else profile.setWhole(plan.areas, this.page.state.layer);
    const told = the('#around-failed');
    told.hidden = true;
    try {
      const left = await view.setNeighbours(asked ? plan.outlines : null, standing);
      if (asked === this.drawn) this.page.root.dataset.around = String(standing.length - left);
    } catch (error) {
      if (asked !== this.drawn) return;
      // The next time that the sheet comes it is tried again.
      this.drawn = '';
      told.hidden = false;
      console.error(error);
    }
  }

  /** The copy of the item that the view draws by itself: the first on the plate. @param {any} plan */
  #copy(plan) {
    return plan.instances.find((one) => one.item === this.page.state.item)?.copy;
  }

  /** @param {number} plates */
  #tabs(plates) {
    const row = the('#plan-plates');
    row.hidden = plates < 2;
    row.replaceChildren(...Array.from({ length: plates }, (_, k) => {
      const button = document.createElement('button');
      button.type = 'button';
      button.dataset.plate = String(k + 1);
      button.textContent = `Plate ${k + 1}`;
      button.setAttribute('aria-pressed', String(k + 1 === this.plate));
      return button;
    }));
  }
}
