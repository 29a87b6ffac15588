import { fetchBlock, readLayers } from '../../static/js/blocks.js';
import { lookingHeaders } from '../../static/js/looking.js';
import { inStep } from '../../static/js/pair.js';
import { all, area, field, find, SectionController, the } from '../../static/js/section.js';
import { TiltPad } from './tilt-pad.js';

/** What is said while a face is picked for something. */
const PICKS = {
  stand: 'Point at a face of the part and click: it goes down on the plate.',
  show: 'Click on the side that must stay clean.',
  load: 'Click where the main load presses on the part.',
};

/** Section 4: turns the part, points at what figures speak of, and walks two stances side by side. */
export default class StanceController extends SectionController {
  coloured = true;

  /** Figures of the cards, or how they differ from the chosen one. */
  differences = false;

  /** Stances that were picked to be compared: figures that come in draw the cards anew. @type {Set<string>} */
  picked = new Set();

  /** The figure that is pointed at. @type {HTMLElement | null} */
  pointed = null;

  /** @type {string | undefined} */
  stance;

  constructor(page) {
    super(page);
    this.pad = new TiltPad((turn) => this.view.turnBy(turn), () => this.#letGo());
    const board = the('#board');
    board.addEventListener('pointerover', (e) => this.#ghost(/** @type {Element} */ (e.target).closest('[data-quaternion]')));
    board.addEventListener('pointerleave', () => this.#ghost(null));
    for (const kind of ['pointerover', 'focusin']) {
      document.addEventListener(kind, (e) => this.#figure(/** @type {Element} */ (e.target).closest?.('.figure-line') ?? null));
    }
    document.addEventListener('input', (e) => {
      const input = /** @type {HTMLInputElement} */ (e.target);
      if (input.matches('.goal input')) /** @type {HTMLElement} */ (input.nextElementSibling).textContent = input.value;
    });
  }

  update() {
    the('#board').hidden = false;
    this.#showDifferences();
    this.#showPicked();
    const { state } = this.page;
    const stance = JSON.stringify([state.rotation, state.lift]);
    if (this.stance !== undefined && this.stance !== stance) this.#unpair();
    this.stance = stance;
    this.pointed = null;
    this.view.setLoad(this.page.pair ? null : state.load);
  }

  leave() {
    the('#board').hidden = true;
    this.#pick(false);
    this.#unpair();
    this.pointed = null;
    this.view.setLoad(null);
  }

  escape() {
    this.#pick(false);
    this.#unpair();
  }

  clicked(button) {
    const pick = /** @type {Record<string, 'stand' | 'show' | 'load'>} */ ({ stand: 'stand', 'pick-show': 'show', 'pick-load': 'load' })[button.id];
    if (pick) this.#pick(true, pick);
    else if (button.id === 'pick-cancel') this.#pick(false);
    else if (button.id === 'compare') this.#compare();
    else if (button.id === 'pair-leave') this.#unpair();
    else if (button.id === 'differences') {
      this.differences = button.getAttribute('aria-pressed') !== 'true';
      this.#showDifferences();
    } else return false;
    return true;
  }

  changed(input) {
    if (input.id === 'mix' && input.value) {
      const mix = JSON.parse(input.dataset.mixes ?? '{}')[input.value];
      for (const [goal, weight] of Object.entries(mix)) {
        const slider = field(`#goal-${goal}`);
        slider.value = String(weight);
        /** @type {HTMLElement} */ (slider.nextElementSibling).textContent = String(weight);
        this.page.noteTyped(slider);
      }
    } else if (input.dataset.compare) {
      if (input.checked) this.picked.add(`${input.dataset.q}`);
      else this.picked.delete(`${input.dataset.q}`);
      this.#showPicked();
    } else if (input.name === 'step-by' && this.page.pair) {
      this.#inStep(/** @type {'height' | 'share'} */ (input.value));
    }
  }

  #showDifferences() {
    the('#board').classList.toggle('different', this.differences);
    find('#differences')?.setAttribute('aria-pressed', String(this.differences));
  }

  /** Two stances are compared, no fewer and no more; one that is no longer among the cards is not picked. */
  #showPicked() {
    const boxes = /** @type {HTMLInputElement[]} */ (all('[data-compare]'));
    for (const box of boxes) box.checked = this.picked.has(`${box.dataset.q}`);
    this.picked = new Set(boxes.filter((box) => box.checked).map((box) => `${box.dataset.q}`));
    for (const box of boxes) box.disabled = this.picked.size >= 2 && !box.checked;
    const compare = /** @type {HTMLButtonElement | null} */ (find('#compare'));
    if (compare) compare.disabled = this.picked.size !== 2;
  }

  /** The hand has let go of the pad: the stance is kept. */
  #letGo() {
    const q = this.view.turnedTo;
    this.view.letGo();
    this.page.placed = null;
    this.page.send(`${the('#tilt-pad').dataset.url}`, { quaternion: JSON.stringify(q) });
  }

  /** Show what a figure speaks of while it is pointed at. @param {Element | null} element */
  #figure(element) {
    const line = /** @type {HTMLElement | null} */ (element);
    const { page } = this;
    if (line === this.pointed || page.pair || page.store.open !== 'stance') return;
    const before = this.pointed;
    this.pointed = line;
    const { state, profile } = page;
    const shows = line?.dataset.shows ?? '';
    if (before?.dataset.shows === 'layer' && shows !== 'layer') profile.set(this.indexBefore ?? null);
    this.view.pointAt(shows, { limit: state.limit, show: state.show, centre: state.centre });
    this.view.setTags(this.#tagsOf(shows));
    if (line && shows === 'layer') {
      if (before?.dataset.shows !== 'layer') this.indexBefore = profile.index;
      profile.goTo(Number(line.dataset.z) + state.raise - 1e-6);
    }
    const meaning = find('#figure-meaning');
    if (meaning) meaning.textContent = line ? line.title : 'Point at a figure to see what it means and where.';
  }

  /** @param {string} shows */
  #tagsOf(shows) {
    const { state } = this.page;
    if (shows === 'islands') return state.islands.slice(0, 100).map((i) => ({ text: String(i.n), at: [i.x, i.y, i.z + state.raise] }));
    if (shows === 'cups') return state.cups.map(([x, y, z], k) => ({ text: `cup ${k + 1}`, kind: 'piece', at: [x, y, z + state.raise] }));
    return [];
  }

  /** Pick a face for something. @param {boolean} on @param {'stand' | 'show' | 'load'} [what] */
  #pick(on, what = 'stand') {
    the('#pick-slip').hidden = !on;
    the('#pick-words').textContent = PICKS[what];
    the('#pick-gives').textContent = '';
    if (on) this.#unpair();
    const url = { stand: this.page.root.dataset.standUrl, show: find('#pick-show')?.dataset.url, load: find('#pick-load')?.dataset.url }[what];
    this.view.setPicking(on ? (/** @type {number[]} */ normal) => {
      this.#pick(false);
      const sent = what === 'load' ? normal.map((v) => -v) : normal;
      this.page.send(`${url}`, { normal: JSON.stringify(sent) });
    } : null, what === 'stand' ? (/** @type {import('three').Vector3 | null} */ normal) => {
      const gives = normal && this.view.part.wouldGive(normal, this.page.state.limit);
      the('#pick-gives').textContent = gives ? `${area(gives.contact)} on the plate, ${area(gives.overhang)} overhang` : '';
    } : undefined);
  }

  /** @param {Element | null} element */
  #ghost(element) {
    const card = /** @type {HTMLElement | null} */ (element);
    const q = card?.dataset.quaternion && !card.classList.contains('chosen') ? JSON.parse(card.dataset.quaternion) : null;
    if (q !== this.ghosted) this.view.setGhost(q);
    this.ghosted = q;
  }

  // Two stances side by side ---------------------------------------------------------------

  async #compare() {
    const picked = /** @type {HTMLInputElement[]} */ (all('[data-compare]:checked'));
    if (picked.length !== 2) return;
    the('#view-busy').textContent = 'Cutting the layers of both…';
    the('#view-busy').hidden = false;
    try {
      const sides = await Promise.all(picked.map((box) => this.#side(box)));
      this.page.pair = sides;
      this.view.pointAt('', {});
      this.view.setLoad(null);
      this.view.showOverhangs(false);
      the('#legend').hidden = true;
      this.view.setPair(sides[0], sides[1]);
      the('#pair-names').textContent = sides.map((s) => `${s.letter} ${s.name}`).join(' · ');
      the('#pair-slip').hidden = false;
      this.#inStep(/** @type {'height' | 'share'} */ (field('[name="step-by"]:checked').value));
      document.body.dataset.pair = sides.map((s) => s.letter).join('');
    } catch (error) {
      the('#view-failed').textContent = 'The two stances could not be compared. Try again; the job itself is kept.';
      the('#view-failed').hidden = false;
      console.error(error);
    } finally {
      the('#view-busy').hidden = true;
      the('#view-busy').textContent = 'Loading the part…';
    }
  }

  /** One of two stances, with its layers. @param {HTMLInputElement} box */
  async #side(box) {
    const address = `${this.page.root.dataset.stanceUrl}?q=${encodeURIComponent(box.dataset.q ?? '')}`;
    const answer = await fetch(address, { headers: lookingHeaders() });
    if (!answer.ok) throw new Error('StanceController: the layers of a stance could not be made');
    const standing = await answer.json();
    const layers = readLayers(await fetchBlock(`/api/blocks/layers/${standing.layers}`));
    return { ...standing, layers, letter: box.dataset.compare, name: box.dataset.name };
  }

  /** @param {'height' | 'share'} by */
  #inStep(by) {
    const { page } = this;
    page.steps = inStep(page.pair[0], page.pair[1], by);
    page.profile.setPair(page.steps, page.pair);
    page.walk.follow();
    page.layerMoved(null);
  }

  #unpair() {
    if (!this.page.pair) return;
    this.page.pair = null;
    delete document.body.dataset.pair;
    the('#pair-slip').hidden = true;
    this.view.setPair(null);
    this.picked.clear();
    this.#showPicked();
    this.page.showSection();
    this.page.showProfile();
  }
}
