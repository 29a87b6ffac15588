import { fetchBlock, readLayers, readMesh, readPieces, readShell } from './blocks.js';
import { LayerPlan } from './layer-plan.js';
import { LayerWalk } from './layer-walk.js';
import { LengthEcho } from './length.js';
import { getReady, looking, lookingHeaders, nowLooking } from './looking.js';
import { HeightProfile, levels } from './profile.js';
import { keepPresses } from './press.js';
import { all, area, find, SectionController, the } from './section.js';
import { PageStore } from './state.js';
import { Uploads } from './uploads.js';
import { View } from './view.js';

/** @typedef {import('./state.js').PageState} PageState */
/** @typedef {import('./blocks.js').LayersData} LayersData */

/** The job page: follows the sheet, feeds the view and the height profile, listens to the work. */
export class JobPage {
  constructor() {
    this.root = the('#job');
    this.store = new PageStore();
    this.view = new View(the('#canvas'), the('#tags'));
    this.profile = new HeightProfile(the('#profile'), (index) => this.layerMoved(index));
    /** What is loaded now, by name: the key of its block. @type {Record<string, string | null | undefined>} */
    this.keys = {};
    /** @type {{part: LayersData | null, support: LayersData | null, footing: LayersData | null}} */
    this.layers = { part: null, support: null, footing: null };
    this.looked = false;
    /** Two stances side by side. @type {any[] | null} */
    this.pair = null;
    /** Layers of two stances in step. @type {any[]} */
    this.steps = [];
    /**
     * What was typed and not yet sent, by the id of its field, and how much had been asked for by then.
     * @type {Map<string, {value: string, at: number}>}
     */
    this.typed = new Map();
    /** What is unfolded while the sheet is swapped, by id. @type {string[]} */
    this.unfolded = [];
    /** The tab that is open in a section. @type {Record<string, string>} */
    this.tabs = {};
    /** Counts what was asked for from this page and what came for it, other than figures that only follow. */
    this.acts = 0;
    /** A refresh that is on its way. @type {Promise<void> | null} */
    this.refreshing = null;
    /** Counts what the server told of work that ended. */
    this.told = 0;
    /** What came last only brings figures up to date. */
    this.quiet = false;
    /** A pointer is down: the sheet is not swapped under it. */
    this.pressed = false;
    /** @type {Map<string, SectionController>} */
    this.controllers = new Map();
    /** Stands for a section without a controller, and for none. */
    this.plain = new SectionController(this);
    this.plan = new LayerPlan(the('#plan'));
    this.walk = new LayerWalk(this.profile, (z) => this.#onward(z - this.state.raise));
    this.uploads = new Uploads(this.root.dataset.job ?? null, Number(this.root.dataset.uploadMb) * 1e6, (item) => {
      this.acted();
      looking.item = item;
      this.refreshSoon();
    });
    this.#hear();
  }

  /** Load what each section does, and begin. */
  async begin() {
    const slugs = (this.root.dataset.controllers ?? '').split(' ').filter(Boolean);
    const modules = await Promise.all(slugs.map((slug) => import(`/sections/${slug}/controller.js`)));
    slugs.forEach((slug, k) => this.controllers.set(slug, new modules[k].default(this)));
    this.#listen();
    await this.#follow();
  }

  /** @returns {PageState} */
  get state() {
    return this.store.state;
  }

  /** What the open section does. @returns {SectionController} */
  get section() {
    return this.controllers.get(this.store.open) ?? this.plain;
  }

  /** Something was asked for from this page. @param {number} [step]  id of the step that it made */
  acted(step) {
    this.acts += 1;
    if (step !== undefined) looking.step = step;
  }

  /** Send values and swap the sheet for the answer. @param {string} url @param {Record<string, unknown>} values */
  send(url, values) {
    const open = url.includes('?') ? `&open=${this.store.number}` : `?open=${this.store.number}`;
    return htmx.ajax('POST', `${url}${open}`, { target: '#sheet', values });
  }

  #hear() {
    keepPresses();
    const { body } = document;
    body.addEventListener('htmx:before:swap', (e) => {
      const { ctx, tasks } = /** @type {CustomEvent} */ (e).detail;
      if (ofBoard(ctx)) return;
      this.quiet = Boolean(ctx.quiet);
      if (!this.quiet) {
        this.acts += 1;
        this.#answered(ctx, tasks.find((/** @type {any} */ one) => one.type === 'main'));
      } else if (ctx.acts !== this.acts || this.#underHand) {
        // Older than what was asked for since it began, or in the way of a hand: another one follows.
        this.late = true;
        e.preventDefault();
        return;
      }
      // Work may have ended while this sheet was on its way, which still shows it.
      if (ctx.told !== this.told) this.refreshSoon();
      this.scroll = the('#sheet').scrollTop;
      this.unfolded = [...document.querySelectorAll('#sheet details[open][id]')].map((one) => one.id);
    });
    body.addEventListener('htmx:after:swap', (e) => {
      if (!ofBoard(/** @type {CustomEvent} */ (e).detail.ctx)) this.#swapped();
    });
    body.addEventListener('htmx:config:request', (e) => {
      Object.assign(/** @type {CustomEvent} */ (e).detail.ctx.request.headers, lookingHeaders());
    });
    body.addEventListener('htmx:before:request', (e) => {
      const { ctx } = /** @type {CustomEvent} */ (e).detail;
      ctx.told = this.told;
      if (!ctx.quiet && !ofBoard(ctx)) this.acts += 1;
      ctx.began = this.acts;
    });
    document.addEventListener('input', (e) => this.#typed(/** @type {HTMLInputElement} */ (e.target)));
    document.addEventListener('change', (e) => {
      for (const one of this.controllers.values()) one.changed(/** @type {HTMLInputElement} */ (e.target));
    });
    document.addEventListener('click', (e) => this.#clicked(e));
    document.addEventListener('keydown', (e) => this.#key(e));
    document.addEventListener('focusout', () => { if (this.late) this.refreshSoon(); });
    document.addEventListener('pointerdown', () => { this.pressed = true; }, { capture: true });
    for (const kind of ['pointerup', 'pointercancel']) {
      document.addEventListener(kind, () => {
        this.pressed = false;
        if (this.late) this.refreshSoon();
      }, { capture: true });
    }
  }

  /** After a new sheet has come: keep the place, and what was typed while only figures were brought up to date. */
  #swapped() {
    // What was unfolded stays so: the server does not know of it.
    for (const id of this.unfolded) {
      const one = document.getElementById(id);
      if (one instanceof HTMLDetailsElement) one.open = true;
    }
    the('#sheet').scrollTop = this.scroll ?? 0;
    for (const [id, { value }] of this.typed) {
      const input = /** @type {HTMLInputElement | null} */ (document.getElementById(id));
      if (input && input !== document.activeElement) input.value = value;
    }
    this.#follow();
  }

  /**
   * An answer says what the fields hold; but not what was typed into those of the same item since it was asked for.
   * @param {{began: number}} ctx @param {{fragment: DocumentFragment, swapSpec: {style: string}}} [sheet]
   */
  #answered(ctx, sheet) {
    const state = sheet?.fragment.querySelector('#state')?.textContent;
    const same = !state || JSON.parse(state).item === looking.item;
    for (const [id, { at }] of this.typed) if (!same || at < ctx.began) this.typed.delete(id);
    // The field that is typed in stays: another one in its place would not tell of a change when it is left.
    if (sheet && state && this.#typing) sheet.swapSpec.style = 'innerMorph';
  }

  // State of the sheet ------------------------------------------------------------

  /** Bring the view in line with the sheet: what is there is shown, what is missing keeps its old look. */
  async #follow() {
    const state = this.store.read();
    const turn = (this.turn = (this.turn ?? 0) + 1);
    const now = () => turn === this.turn;
    nowLooking(state);
    this.#address();
    this.#entered();
    try {
      await this.#surface(state, now);
      if (!now()) return;
      this.#stand(state);
      this.#limit(state.limit);
      this.showSection();
      await this.#blocks(state, now);
      if (!now()) return;
      this.showSection();
      this.showProfile();
      the('#view-failed').hidden = true;
    } catch (error) {
      the('#view-failed').textContent = 'The part could not be loaded into the view. Reload the page; the job itself is kept.';
      the('#view-failed').hidden = false;
      console.error(error);
    } finally {
      // What was looked at before says nothing of what is looked at now.
      if (now()) the('#view-busy').hidden = true;
      if (now()) document.body.dataset.ready = JSON.stringify({ step: state.step, layers: state.layers === this.keys.layers, supports: this.keys.supports ?? null });
    }
  }

  /** The address of the page says what is looked at, so that it can be opened again. */
  #address() {
    const url = new URL(window.location.href);
    url.searchParams.set('item', looking.item);
    url.searchParams.set('open', String(this.store.number));
    if (url.href !== window.location.href) window.history.replaceState(null, '', url);
  }

  /** Tell sections that they were opened or left. */
  #entered() {
    const before = this.entered;
    this.entered = this.store.open;
    if (before === this.entered) return;
    if (before !== undefined) this.controllers.get(before)?.leave();
    if (!this.pair) this.view.pointAt('', {});
    this.section.enter();
  }

  /** The part, as fine as the brush needs it, what is painted on it, and the part before it was mended. @param {PageState} state @param {() => boolean} now */
  async #surface(state, now) {
    if (String(this.store.last?.build) !== String(state.build)) this.view.setMachine(state.build);
    this.view.setStands(state.stands);
    const fine = Boolean(state.marks) || this.#painting || this.keys.mesh === `fine/${state.mesh}`;
    const mesh = `${fine ? 'fine' : 'meshes'}/${state.mesh}`;
    if (this.keys.mesh !== mesh) {
      the('#view-busy').hidden = false;
      const data = readMesh(await fetchBlock(`/api/blocks/${mesh}`));
      if (!now()) return;
      this.view.setPart(data, state.closed);
      this.keys.mesh = mesh;
      this.keys.marks = null;
      this.placed = undefined;
    }
    if (this.keys.marks !== state.marks && fine && !this.#flying) {
      const marks = state.marks ? new Uint8Array(await fetchBlock(`/api/blocks/marks/${state.marks}`)) : null;
      if (!now()) return;
      this.view.part.setMarks(marks);
      this.keys.marks = state.marks;
      this.view.redraw();
    }
    const before = state.before && JSON.stringify([state.before, state.factors]);
    if (this.keys.before !== before) {
      const came = before ? readMesh(await fetchBlock(`/api/blocks/meshes/${state.before}`)) : null;
      if (!now()) return;
      /** @type {any} */ (this.controllers.get('part'))?.unmended();
      this.view.setBefore(came, state.factors);
      this.keys.before = before;
    }
  }

  get #painting() {
    return Boolean(/** @type {any} */ (this.controllers.get('overhangs'))?.painting);
  }

  /** Strokes that are on their way. */
  get #flying() {
    return /** @type {any} */ (this.controllers.get('overhangs'))?.marks.flying ?? 0;
  }

  /** Stand the part; supports of another stance would be drawn in the wrong place. @param {PageState} state */
  #stand(state) {
    const stance = JSON.stringify([state.item, state.rotation, state.lift]);
    const turned = this.stance !== stance;
    if ((turned || this.placed === null) && this.pair) this.section.escape();
    const placed = JSON.stringify([stance, state.raise, state.mesh]);
    if (this.placed !== placed) {
      this.view.stand(state.rotation, state.lift, state.raise, [0, 0]);
      this.placed = placed;
      if (this.view.grown) this.view.look('corner');
    }
    this.stance = stance;
    if (!this.looked || turned) this.view.look('corner');
    this.looked = true;
    // Those of other settings stay till the new ones come.
    if ((turned || !state.wantsSupports) && state.supports !== this.keys.supports) this.#drop('supports', 'support');
    if ((turned || !state.wantsFooting) && state.footing !== this.keys.footing) this.#drop('footing', 'footing');
    if ((turned || !state.wantsSplit) && this.keys.split && state.split !== this.keys.split) {
      this.view.setPieces(null);
      this.keys.split = null;
    }
  }

  /** Fetch what is new. @param {PageState} state @param {() => boolean} now */
  async #blocks(state, now) {
    await this.#load('layers', state.layers, now, async (key) => {
      this.layers.part = readLayers(await fetchBlock(`/api/blocks/layers/${key}`));
    });
    await this.#load('supports', state.supports, now, async (key) => {
      const [shell, layers] = await Promise.all([fetchBlock(`/api/blocks/supports/${key}`), fetchBlock(`/api/blocks/supports/${key}/layers`)]);
      this.view.setShell('supports', readShell(shell));
      this.layers.support = readLayers(layers);
      await /** @type {any} */ (this.controllers.get('supports'))?.loaded(key);
    });
    await this.#load('footing', state.footing, now, async (key) => {
      const [shell, layers] = await Promise.all([fetchBlock(`/api/blocks/footing/${key}`), fetchBlock(`/api/blocks/footing/${key}/layers`)]);
      this.view.setShell('footing', readMesh(shell));
      this.layers.footing = readLayers(layers);
    });
    await this.#load('split', state.split, now, async (key) => {
      this.view.setPieces(readPieces(await fetchBlock(`/api/blocks/split/${key}`)));
    });
  }

  /**
   * Load a block when its key is new and still wanted.
   * @param {string} name @param {string | null} key @param {() => boolean} now @param {(key: string) => Promise<void>} read
   */
  async #load(name, key, now, read) {
    if (!key || this.keys[name] === key || !now()) return;
    await read(key);
    this.keys[name] = key;
  }

  /** @param {'supports' | 'footing'} name @param {'support' | 'footing'} layers */
  #drop(name, layers) {
    this.view.setShell(name, null);
    if (name === 'supports') /** @type {any} */ (this.controllers.get('supports'))?.loaded(null);
    this.layers[layers] = null;
    this.keys[name] = null;
  }

  /** Show what belongs to the layers that are there. */
  showProfile() {
    if (this.pair) return;
    const { state } = this;
    const list = levels({ part: this.layers.part, support: this.layers.support, layer: state.layer, lift: state.lift, raised: state.raise, footingLayers: this.layers.footing ? state.footingLayers : 0 });
    this.profile.setStale(!state.layers || state.layers !== this.keys.layers);
    this.profile.setData(list, this.layers, state.islands.map((i) => ({ n: i.n, z: i.z + state.raise, held: i.held })), { peel: state.peel, steps: state.steps.map((z) => z + state.raise) });
    this.plan.frame(this.layers.part, this.layers.support);
    this.walk.follow();
    this.layerMoved(this.profile.index);
  }

  /** Show in the view what belongs to the open section. */
  showSection() {
    const { section } = this;
    const tab = this.tabs[this.store.open];
    if (tab) this.tab(tab);
    section.update();
    this.view.showPieces(section.pieces);
    const coloured = section.coloured && !section.pieces && !this.pair;
    the('#legend').hidden = !coloured;
    this.view.showOverhangs(coloured);
    this.view.dimSupports(section.supports);
    if (!section.keepsPlace) {
      this.view.setPlace(null);
      delete document.body.dataset.finding;
    }
    this.view.setTags(section.tags());
  }

  /** Tags of the islands. */
  islandTags() {
    const { islands, raise } = this.state;
    const few = islands.length <= 6;
    return islands.slice(0, 100).map((i) => ({ text: few ? `island ${i.n}` : String(i.n), at: [i.x, i.y, i.z + raise] }));
  }

  /** Show one tab of the open section. @param {string} name */
  tab(name) {
    this.tabs[this.store.open] = name;
    for (const tab of all('[data-tab]')) {
      tab.setAttribute('aria-selected', String(tab.dataset.tab === name));
      the(`#${tab.dataset.tab}`).hidden = tab.dataset.tab !== name;
    }
  }

  // Limit and layers ------------------------------------------------------------------

  /** Go on to the next finding above a height. @param {number} z  mm above the plate */
  #onward(z) {
    /** @type {any} */ (this.controllers.get('overhangs'))?.onward(z);
  }

  /** @param {number} degrees */
  #limit(degrees) {
    this.view.setLimit(degrees);
    the('#legend-limit').textContent = `${Math.round(degrees * 10) / 10}°`;
    the('#legend-from').textContent = `${Math.round(degrees * 10) / 10}°`;
    const out = find('#live-area');
    if (out && this.view.part) out.textContent = area(this.view.part.areaPast(degrees));
  }

  /** A field says what was not yet sent. @param {HTMLInputElement} input */
  noteTyped({ id, value }) {
    this.typed.set(id, { value, at: this.acts });
  }

  /** @param {HTMLInputElement} input */
  #typed(input) {
    if (input.id && input.type !== 'file' && input.closest('#sheet')) this.noteTyped(input);
    if (!input.matches('[data-limit]')) return;
    const value = Number(input.value);
    if (!(value >= 0 && value <= 90)) return;
    for (const other of /** @type {HTMLInputElement[]} */ (all('[data-limit]'))) if (other !== input) other.value = input.value;
    this.#limit(value);
  }

  /** @param {number | null} index */
  layerMoved(index) {
    if (this.pair) {
      this.view.pair.cutAt(index === null ? [null, null] : this.steps[index].layers);
      this.walk.moved(index);
      this.plan.show(null, this.layers, []);
      this.view.redraw();
      return;
    }
    const level = index === null ? null : this.profile.levels[index];
    if (level && this.view.pieces.visible) this.view.showPieces(false);
    this.view.cutAt(level ?? null, this.layers);
    this.section.layerMoved(index);
    this.plan.show(level, this.layers, this.state.islands);
    const prop = the('#prop-island'), offered = Boolean(this.#loose);
    if (prop.hidden && offered) getReady(prop);
    prop.hidden = !offered;
    this.walk.moved(index);
  }

  /** An island of the layer that is shown, which no stilt holds. */
  get #loose() {
    if (!this.state.resin || !this.state.wantsSupports) return undefined;
    return this.state.islands.find((one) => !one.held && this.plan.starts.some((other) => other.n === one.n));
  }

  // Pointing and keys --------------------------------------------------------------------

  /** @param {MouseEvent} event */
  #clicked(event) {
    const target = /** @type {HTMLButtonElement | null} */ (/** @type {Element} */ (event.target).closest('button'));
    if (!target) return;
    if ([...this.controllers.values()].some((one) => one.clicked(target))) return;
    if (target.id === 'help') /** @type {HTMLDialogElement} */ (the('#keys')).showModal();
    else if (target.id === 'perspective') {
      const on = target.getAttribute('aria-pressed') !== 'true';
      target.setAttribute('aria-pressed', String(on));
      this.view.setPerspective(on);
    } else if (target.dataset.view) {
      for (const b of all('[data-view]')) b.setAttribute('aria-pressed', String(b === target));
      this.view.look(target.dataset.view);
    } else if (target.dataset.tab) {
      this.tab(target.dataset.tab);
      this.#follow();
    } else if (target.dataset.openSection) {
      /** @type {HTMLDetailsElement} */ (the('#preflight')).open = false;
      this.goTo(Number(target.dataset.openSection), target.dataset.item);
    } else if (target.id === 'prop-island') {
      const { x, y, z } = this.#loose ?? {};
      if (z !== undefined) this.send(target.dataset.url ?? '', { plate: [x, y, z].join(',') });
    } else if ('closeNotice' in target.dataset) {
      target.closest('.notice')?.remove();
    }
  }

  /** Open a section, of another item where one is named. @param {number} section @param {string} [item] */
  goTo(section, item) {
    if (item && item !== looking.item) {
      htmx.ajax('GET', `${this.root.dataset.sheetUrl}?open=${section}&item=${encodeURIComponent(item)}`, { target: '#sheet' });
    } else if (this.store.number !== section) the(`#open-${section}`).click();
  }

  /** @param {KeyboardEvent} event */
  #key(event) {
    const target = /** @type {HTMLElement} */ (event.target);
    if (target.closest('input, textarea, select, dialog[open]')) {
      if (event.key === 'Escape') target.blur?.();
      return;
    }
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'z') {
      event.preventDefault();
      the(event.shiftKey ? '#redo' : '#undo').click();
      return;
    }
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (this.section.key(event)) return;
    if (/^[1-9]$/.test(event.key)) this.goTo(Number(event.key));
    else if (event.key === '[') this.profile.step(-1);
    else if (event.key === ']') this.profile.step(1);
    else if (event.key === '?') /** @type {HTMLDialogElement} */ (the('#keys')).showModal();
    else if (event.key === 'Escape') for (const one of this.controllers.values()) one.escape();
  }

  // Work --------------------------------------------------------------------------------------

  #listen() {
    const source = new EventSource(this.root.dataset.eventsUrl ?? '');
    source.onmessage = (message) => {
      const event = JSON.parse(message.data);
      if (event.type === 'ready' || event.state !== 'running') this.told += 1;
      if (event.type === 'ready') this.refreshSoon();
      else if (event.state === 'idle') {
        if (find('#work')) this.refreshSoon();
      } else if (event.state !== 'running') this.refreshSoon();
      else this.#progress(event);
    };
    // After a restart of the server the stream comes back by itself; then the sheet may have moved on.
    source.onerror = () => { this.broken = true; };
    source.onopen = () => {
      if (this.broken) this.refreshSoon();
      this.broken = false;
    };
    window.addEventListener('pagehide', () => source.close());
  }

  /** @param {{stage: string, done: number, total: number, made: number, wanted: number}} event */
  #progress({ stage, done, total, made, wanted }) {
    const bar = /** @type {HTMLProgressElement | null} */ (find('#work-bar'));
    if (!bar) {
      this.refreshSoon();
      return;
    }
    the('#work-stage').textContent = stage;
    the('#work-count').textContent = total > 1 ? `${done} of ${total}` : '';
    const share = total > 1 ? done / total : 0;
    if (wanted) bar.value = (100 * (made + share)) / wanted;
    else if (total > 1) bar.value = 100 * share;
    else bar.removeAttribute('value');
  }

  /** Bring figures up to date, in a moment. */
  refreshSoon() {
    clearTimeout(this.soon);
    this.soon = setTimeout(() => this.#refresh(), 120);
  }

  /** Never under the hands: a field that is being typed in, or a pointer that is down, waits for its end. */
  get #underHand() {
    return this.pressed || this.#typing;
  }

  get #typing() {
    const active = document.activeElement;
    return Boolean(active?.closest('#sheet') && this.typed.has(active.id));
  }

  async #refresh() {
    if (this.#underHand) {
      this.late = true;
      return;
    }
    // One at a time: a second one would wait behind the first, and a third would be dropped.
    if (this.refreshing || /** @type {any} */ (this.controllers.get('supports'))?.hand.sending) {
      this.refreshSoon();
      return;
    }
    this.late = false;
    try {
      const asked = { target: '#sheet', source: '#sheet', swap: 'innerMorph', quiet: true, acts: this.acts };
      this.refreshing = htmx.ajax('GET', `${this.root.dataset.sheetUrl}?open=${this.store.number}`, asked);
      await this.refreshing;
    } finally {
      this.refreshing = null;
      if (this.late && !this.#underHand) this.refreshSoon();
    }
  }
}

/**
 * A board inside the sheet comes by itself, and leaves what is typed beside it.
 * @param {{target?: Element}} ctx
 */
function ofBoard({ target }) {
  return target instanceof Element && Boolean(target.closest('.machine-choice, .brought-beside, #what-if-board'));
}

const page = new JobPage();
/** @type {any} */ (window).heron = page;
/** @type {any} */ (window).heronLengths = new LengthEcho();
page.begin();
