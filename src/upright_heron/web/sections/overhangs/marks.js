import { lookingHeaders } from '../../static/js/looking.js';
import { all } from '../../static/js/section.js';

const $ = (selector) => document.querySelector(selector);
/** Ends of the size slider, mm. */
const SMALLEST = 0.5, LARGEST = 100;
const WORDS = {
  prop: 'Drag over the part: what is painted is held.',
  clear: 'Drag over the part: nothing touches or passes what is painted.',
  show: 'Drag over the part: what is painted stays clean where it can.',
  erase: 'Drag over the part: what is there goes.',
};

/** The marks: which brush, how large, fills, and sending strokes in their order. */
export class MarksPanel {
  /**
   * @param {import('../../static/js/view.js').View} view
   * @param {{mesh: () => string, stroked: (marks: string | null | undefined, step?: number) => void, send: (url: string, values: Record<string, unknown>) => Promise<void>, look: (at: number[]) => void}} page
   */
  constructor(view, page) {
    this.view = view;
    this.page = page;
    /** Strokes that are on their way. */
    this.flying = 0;
    this.queue = Promise.resolve();
    this.fill = '';
    view.brush.painted = (kind, facets) => this.#send(kind, facets);
    document.addEventListener('click', (e) => this.#clicked(e));
    document.addEventListener('input', (e) => this.#typed(e.target));
    document.addEventListener('change', (e) => this.#typed(e.target));
  }

  /** After a new sheet has come, or another section was opened. @param {boolean} shown */
  follow(shown) {
    const { brush } = this.view;
    if (!shown) {
      this.use(null);
      return;
    }
    for (const b of all('[data-brush]')) b.setAttribute('aria-checked', String(b.dataset.brush === brush.kind));
    if (brush.kind) $('#brush-words').textContent = WORDS[brush.kind];
    $('#brush-mm').value = String(Math.round(brush.size * 10) / 10);
    $('#brush-size').value = String((100 * Math.log(brush.size / SMALLEST)) / Math.log(LARGEST / SMALLEST));
    $('#brush-through').checked = brush.through;
    $('#fill-what').value = this.fill;
    $('#crease-label').hidden = this.fill !== 'face';
  }

  /** @param {'prop' | 'clear' | 'show' | 'solid' | 'erase' | null} kind */
  use(kind) {
    this.view.brush.use(kind);
    this.view.brush.clicked = this.fill ? (facet) => this.#fill({ what: this.fill, facet: String(facet), crease: $('#crease').value }) : null;
    for (const b of all('[data-brush]')) b.setAttribute('aria-checked', String(b.dataset.brush === kind));
    if (kind) $('#brush-words').textContent = WORDS[kind];
    if (kind) document.body.dataset.brush = kind;
    else delete document.body.dataset.brush;
  }

  /** Make the brush larger or smaller. @param {number} factor */
  resize(factor) {
    this.view.brush.size = Math.min(200, Math.max(0.2, this.view.brush.size * factor));
    this.follow(true);
    this.view.redraw();
  }

  #clicked(event) {
    const target = event.target.closest?.('button');
    if (!target) return;
    const { brush, fillAll, channel, keepChannel, at } = target.dataset;
    if (brush) this.use(brush);
    else if (fillAll) this.#fill({ what: fillAll, low: $('#band-low').value, high: $('#band-high').value });
    else if (channel) this.page.look(at.split(',').map(Number));
    else if (keepChannel) this.#fill({ what: 'channel', channel: keepChannel, mark: 'clear' });
  }

  #typed(target) {
    const { brush } = this.view;
    if (target.id === 'brush-size') brush.size = SMALLEST * (LARGEST / SMALLEST) ** (Number(target.value) / 100);
    else if (target.id === 'brush-mm' && Number(target.value) > 0) brush.size = Number(target.value);
    else if (target.id === 'brush-through') brush.through = target.checked;
    else if (target.id === 'fill-what') {
      this.fill = target.value;
      this.use(brush.kind ?? 'prop');
    } else return;
    const mm = $('#brush-mm');
    if (target !== mm) mm.value = String(Math.round(brush.size * 10) / 10);
    if (target.id !== 'brush-size') $('#brush-size').value = String((100 * Math.log(brush.size / SMALLEST)) / Math.log(LARGEST / SMALLEST));
    $('#crease-label').hidden = this.fill !== 'face';
  }

  /** @param {Record<string, string>} values */
  #fill(values) {
    const mark = values.mark ?? this.view.brush.kind ?? 'prop';
    this.page.send($('#marks').dataset.fill, { ...values, mark });
  }

  /** Keep a stroke: one after the other, so that each is a step of its own. @param {string} kind @param {Uint32Array} facets */
  #send(kind, facets) {
    this.flying += 1;
    const url = `${$('#marks').dataset.stroke}?mark=${kind}&of=${this.page.mesh()}`;
    this.queue = this.queue.then(async () => {
      let marks, stepId;
      try {
        const answer = await fetch(url, { method: 'POST', body: /** @type {Uint32Array<ArrayBuffer>} */ (facets).buffer, headers: { 'Content-Type': 'application/octet-stream', 'HX-Request': 'true', ...lookingHeaders() } });
        if (!answer.ok) {
          $('#notice').innerHTML = await answer.text();
          throw new Error(`marks: a stroke was answered with ${answer.status}`);
        }
        ({ marks, stepId } = await answer.json());
      } catch (error) {
        console.error(error);
      }
      this.flying -= 1;
      // What the server has is shown again where a stroke was lost.
      this.page.stroked(this.flying ? undefined : marks, stepId);
    });
  }
}
