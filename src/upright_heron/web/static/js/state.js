/**
 * What the server says of the item that is looked at, with every swap; keys stand for blocks under /api.
 *
 * @typedef {object} PageState
 * @property {string} job
 * @property {string} item
 * @property {number} step
 * @property {number} stepId
 * @property {Record<string, number>} sections  numbers of the sections by their slugs
 * @property {string} mesh
 * @property {boolean} closed
 * @property {string | null} before
 * @property {number[]} factors
 * @property {number[]} rotation  nine numbers, row by row
 * @property {number[]} build  mm
 * @property {number[]} stands  where the item stands on its plate: x, y from the middle (mm), swing (degrees)
 * @property {number} limit  degrees from vertical
 * @property {number} layer  mm
 * @property {number} lift  mm
 * @property {boolean} resin
 * @property {number} raise  mm, by a raft
 * @property {string | null} layers
 * @property {string | null} supports
 * @property {string | null} footing
 * @property {string | null} toolpaths
 * @property {string | null} firstPaths  of the lowest layers, while the rest is laid
 * @property {string | null} speeds
 * @property {number} footingLayers
 * @property {string | null} split
 * @property {boolean} wantsSupports
 * @property {boolean} wantsFooting
 * @property {boolean} wantsSplit
 * @property {string | null} health
 * @property {string | null} moved
 * @property {string | null} hangs
 * @property {string | null} findings
 * @property {string | null} marks
 * @property {number[] | null} show
 * @property {number[] | null} load
 * @property {number[][]} cups
 * @property {number[] | null} centre
 * @property {{n: number, z: number, x: number, y: number, layer: number, held: boolean}[]} islands
 * @property {number[] | null} peel
 * @property {number[]} steps
 */

/** Keeps the state of the page, and the one before. */
export class PageStore {
  constructor() {
    /** @type {PageState | null} */
    this.last = null;
    /** @type {PageState | null} */
    this.now = null;
    /** Slug of the open section; empty where none is open. */
    this.open = '';
  }

  /** Read the state that came with the sheet. @returns {PageState} */
  read() {
    const text = document.getElementById('state')?.textContent;
    if (!text) throw new Error('PageStore: the sheet came without its state');
    this.last = this.now;
    this.now = /** @type {PageState} */ (JSON.parse(text));
    const body = /** @type {HTMLElement | null} */ (document.querySelector('#sheet .sheet-body'));
    this.number = Number(body?.dataset.open ?? 1);
    this.open = Object.keys(this.now.sections).find((slug) => this.now?.sections[slug] === this.number) ?? '';
    return this.now;
  }

  /** The state; there is one as soon as the page has begun. @returns {PageState} */
  get state() {
    if (!this.now) throw new Error('PageStore: no state has come yet');
    return this.now;
  }
}
