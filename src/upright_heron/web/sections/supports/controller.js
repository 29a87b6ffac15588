import { fetchBlock, readShell } from '../../static/js/blocks.js';
import { getReady } from '../../static/js/looking.js';
import { field, find, SectionController } from '../../static/js/section.js';
import { placeSign } from '../../static/js/signs.js';
import { SupportHand } from './hand.js';

/** Supports in the order of their shells. @param {string} key @returns {Promise<import('./hand.js').Listed[]>} */
export const supportList = async (key) => {
  const answer = await fetch(`/api/blocks/supports/${key}/list`);
  if (!answer.ok) throw new Error('SupportsController: the supports could not be listed');
  return answer.json();
};

/** Section 6: supports by hand, what the check found, and variants compared. */
export default class SupportsController extends SectionController {
  coloured = true;

  /** Key of the supports that the place in the view is one of. @type {string | null} */
  placeOf = null;

  /** Marks of tips by hand that are still being made. @type {import('three').Group[]} */
  coming = [];

  constructor(page) {
    super(page);
    page.tabs.supports = 'make';
    this.hand = new SupportHand(page.view, {
      raise: () => page.state.raise,
      acted: () => page.acted(),
      quiet: () => page.refreshing,
      send: (url, values) => page.send(url, values),
      open: () => { if (page.store.open === 'supports' && page.tabs.supports !== 'hand') page.tab('hand'); },
    });
  }

  /** Supports have come, or gone. @param {string | null} key */
  async loaded(key) {
    this.#unmark();
    this.hand.setList(key ? await supportList(key) : []);
  }

  update() {
    this.hand.follow(!this.page.state.resin && Boolean(find('#picked')), this.page.state.step);
  }

  leave() {
    this.hand.follow(false, this.page.state.step);
  }

  escape() {
    this.hand.leave();
    this.unpick();
  }

  get keepsPlace() {
    return this.placeOf !== null && this.placeOf === this.page.state.supports;
  }

  tags() {
    return this.page.islandTags();
  }

  clicked(button) {
    if (button.dataset.difference) this.#differ(button.dataset.difference);
    else if (button.dataset.fault) this.#look(button.dataset.fault.split(',').map(Number));
    else if (button.id === 'tip-put') this.#tip(button, 'Click on the place of the tip.');
    else if (button.id === 'tip-out') this.#tip(button, 'Click where the tip stands.');
    else if (button.id === 'tip-size') this.#tip(button, 'Click where the tip stands.', () => ({ size: field('#tip-size-name').value }));
    else if (button.id === 'tip-row') this.#tip(button, 'Click near the edge that the row goes along.', () => ({ spacing: field('#ring-spacing').value, inset: field('#ring-inset').value }));
    else if (button.id === 'pick-cancel') this.unpick();
    else return false;
    return true;
  }

  /**
   * Pick a place of the part for a tip, and send it.
   * @param {HTMLElement} button @param {string} words @param {() => Record<string, string>} [more]  what goes along
   */
  #tip(button, words, more) {
    getReady(button);
    this.pickPlace(words, async (at) => {
      this.#mark(at, button.id === 'tip-out' ? '#b3261e' : '#0d7c76');
      await this.page.send(button.dataset.url ?? '', { at: at.join(','), ...more?.() });
      // It was refused: nothing comes.
      if (find('#notice')?.textContent?.trim()) this.#unmark();
    });
  }

  #unmark() {
    for (const sign of this.coming.splice(0)) sign.removeFromParent();
    document.body.dataset.coming = '0';
    this.view.redraw();
  }

  /** Mark a place of the part at once, until the stilts have come. @param {number[]} at @param {string} colour */
  #mark(at, colour) {
    const { sign } = placeSign({ lines: [], facets: [], at, colour }, colour);
    this.view.part.mesh.add(sign);
    this.coming.push(sign);
    document.body.dataset.coming = String(this.coming.length);
    this.view.redraw();
  }

  /** Come near to a place of the plate, in its layer. @param {number[]} at  x, y, z, mm */
  #look(at) {
    const { raise, supports } = this.page.state;
    this.page.profile.goTo(Math.max(0, at[2] + raise - 1e-6));
    this.placeOf = supports;
    this.view.setPlace(this.view.spot(at, raise, '#b3261e'));
  }

  /** Show how a variant of the supports differs from those of now, or no longer. @param {string} key */
  async #differ(key) {
    if (this.hand.differing && this.hand.key === key) {
      this.hand.differ(null);
      return;
    }
    const [shell, list] = await Promise.all([fetchBlock(`/api/blocks/supports/${key}`), supportList(key)]);
    this.hand.key = key;
    this.hand.differ({ data: readShell(shell), list });
  }
}
