import { fetchBlock, readLayers, readMesh, readPieces } from './blocks.js';
import { HeightProfile, levels } from './profile.js';
import { inStep } from './pair.js';
import { FindingList } from './findings.js';
import { LayerPlan } from './layer-plan.js';
import { LayerWalk } from './layer-walk.js';
import { MarksPanel } from './marks.js';
import { TiltPad } from './tilt-pad.js';
import { SupportHand } from './supports.js';
import { Uploads } from './uploads.js';
import { LengthEcho } from './length.js';
import { View } from './view.js';

/* global htmx */

/** Sections in which facets past the limit are coloured. */
const COLOURED = new Set([2, 4, 5, 6]);
const $ = (selector) => document.querySelector(selector);
/** Areas as the server writes them. @param {number} mm2 */
const area = (mm2) => {
  if (mm2 >= 1000) return `${(mm2 / 100).toFixed(mm2 >= 1e5 ? 0 : 1)} cm²`;
  if (mm2 > 0 && mm2 < 1) return mm2 >= 0.005 ? `${mm2.toFixed(2)} mm²` : 'under 0.01 mm²';
  return `${mm2.toFixed(mm2 > 0 && mm2 < 100 ? 1 : 0)} mm²`;
};

/** Supports in the order of their shells. @param {string} key */
const supportList = async (key) => {
  const answer = await fetch(`/api/blocks/supports/${key}/list`);
  if (!answer.ok) throw new Error('JobPage: the supports could not be listed');
  return answer.json();
};

/** The job page: follows the sheet, feeds the view and the height profile, listens to the work. */
class JobPage {
  constructor() {
    this.root = $('#job');
    this.view = new View($('#canvas'), $('#tags'));
    this.profile = new HeightProfile($('#profile'), (index) => this.#layerMoved(index));
    /** What is loaded now, by name: the key of its block. */
    this.keys = {};
    this.layers = { part: null, support: null, footing: null };
    this.looked = false;
    /** What was typed and not yet sent, by the id of its field. @type {Map<string, string>} */
    this.typed = new Map();
    document.body.addEventListener('htmx:before:swap', () => { this.scroll = $('#sheet').scrollTop; });
    document.body.addEventListener('htmx:after:swap', () => this.#swapped());
    /** How often something was asked for from this page, other than figures that only follow. */
    this.acts = 0;
    document.body.addEventListener('htmx:before:request', (e) => {
      if ((e.detail?.ctx?.request?.method ?? 'GET').toUpperCase() !== 'GET') this.acts += 1;
    });
    document.addEventListener('input', (e) => this.#typed(e));
    document.addEventListener('click', (e) => this.#clicked(e));
    document.addEventListener('keydown', (e) => this.#key(e));
    document.addEventListener('focusout', () => { if (this.late) this.#refreshSoon(); });
    $('#board').addEventListener('pointerover', (e) => this.#ghost(e.target.closest('[data-quaternion]')));
    $('#board').addEventListener('pointerleave', () => this.#ghost(null));
    $('#pull').addEventListener('input', (e) => {
      $('#pull-out').textContent = `${e.target.value} %`;
      this.view.pull(e.target.value / 100);
    });
    this.uploads = new Uploads(this.root.dataset.job, Number(this.root.dataset.uploadMb) * 1e6, () => {
      this.acts += 1;
      this.#refreshSoon();
    });
    this.pad = new TiltPad((turn) => this.view.turnBy(turn), () => this.#letGo());
    document.addEventListener('pointerover', (e) => this.#figure(e.target.closest?.('.figure-line')));
    document.addEventListener('focusin', (e) => this.#figure(e.target.closest?.('.figure-line')));
    document.addEventListener('change', (e) => this.#changed(e));
    this.marks = new MarksPanel(this.view, { mesh: () => this.state.mesh, stroked: (marks) => this.#stroked(marks), look: (at) => this.view.setPlace({ lines: [], facets: [], at, facing: [0, 0, 0], colour: '#20303a' }) });
    this.hand = new SupportHand(this.view, { raise: () => this.state.raise, acted: () => { this.acts += 1; }, quiet: () => this.refresh, open: () => { if (this.open === 6 && this.tabs[6] !== 'hand') this.#tab('hand'); } });
    /** The tab that is open in each section. */
    this.tabs = { 5: 'findings', 6: 'make' };
    this.plan = new LayerPlan($('#plan'));
    this.walk = new LayerWalk(this.profile, (z) => this.#onward(z));
    this.findings = new FindingList((finding) => this.#finding(finding));
    this.#listen();
    this.#follow();
  }

  get open() {
    return Number($('#sheet .sheet-body')?.dataset.open ?? 1);
  }

  /** After a new sheet has come: keep the place, and what was typed while only figures were brought up to date. */
  #swapped() {
    $('#sheet').scrollTop = this.scroll;
    if (this.refreshing) {
      for (const [id, value] of this.typed) {
        const field = document.getElementById(id);
        if (field) field.value = value;
      }
    } else {
      this.typed.clear();
    }
    this.#follow();
  }

  // State of the sheet ------------------------------------------------------------

  /** Bring the view in line with the sheet: what is there is shown, what is missing keeps its old look. */
  async #follow() {
    const state = JSON.parse($('#state').textContent);
    const turn = (this.turn = (this.turn ?? 0) + 1);
    const last = this.state;
    this.state = state;
    try {
      if (!last || String(last.build) !== String(state.build)) this.view.setMachine(state.build);
      const fine = Boolean(state.marks) || this.#painting() || this.keys.mesh === `fine/${state.mesh}`;
      const mesh = `${fine ? 'fine' : 'meshes'}/${state.mesh}`;
      if (this.keys.mesh !== mesh) {
        $('#view-busy').hidden = false;
        const data = readMesh(await fetchBlock(`/api/blocks/${mesh}`));
        if (turn !== this.turn) return;
        this.view.setPart(data, state.closed);
        this.keys.mesh = mesh;
        this.keys.marks = null;
        this.placed = undefined;
      }
      if (this.keys.marks !== state.marks && fine && !this.marks.flying) {
        const marks = state.marks ? new Uint8Array(await fetchBlock(`/api/blocks/marks/${state.marks}`)) : null;
        if (turn !== this.turn) return;
        this.view.part.setMarks(marks);
        this.keys.marks = state.marks;
        this.view.redraw();
      }
      const before = state.before && JSON.stringify([state.before, state.factors]);
      if (this.keys.before !== before) {
        this.mended = 'after';
        this.view.setBefore(before ? readMesh(await fetchBlock(`/api/blocks/meshes/${state.before}`)) : null, state.factors);
        if (turn !== this.turn) return;
        this.keys.before = before;
      }
      const stance = JSON.stringify([state.rotation, state.lift]);
      const turned = this.stance !== stance;
      if (turned || this.placed === null) this.#unpair();
      const placed = JSON.stringify([stance, state.raise, state.mesh, state.at]);
      if (this.placed !== placed) {
        this.view.stand(state.rotation, state.lift, state.raise, state.at);
        this.placed = placed;
        if (this.view.grown) this.view.look('corner');
      }
      this.stance = stance;
      if (!this.looked || turned) this.view.look('corner');
      this.looked = true;
      this.#limit(state.limit);
      // Supports of another stance would be drawn in the wrong place; those of other settings stay till the new come.
      if ((turned || !state.wantsSupports) && state.supports !== this.keys.supports) this.#drop('supports', 'support');
      if ((turned || !state.wantsFooting) && state.footing !== this.keys.footing) this.#drop('footing', 'footing');
      if (!state.wantsSplit && this.keys.split) {
        this.view.setPieces(null);
        this.keys.split = null;
      }
      this.#sections();
      await this.#load('layers', state.layers, turn, async (key) => {
        this.layers.part = readLayers(await fetchBlock(`/api/blocks/layers/${key}`));
      });
      await this.#load('supports', state.supports, turn, async (key) => {
        const [shell, layers, list] = await Promise.all([fetchBlock(`/api/blocks/supports/${key}`), fetchBlock(`/api/blocks/supports/${key}/layers`), supportList(key)]);
        this.view.setShell('supports', readMesh(shell));
        this.layers.support = readLayers(layers);
        this.hand.setList(list);
      });
      await this.#load('footing', state.footing, turn, async (key) => {
        const [shell, layers] = await Promise.all([fetchBlock(`/api/blocks/footing/${key}`), fetchBlock(`/api/blocks/footing/${key}/layers`)]);
        this.view.setShell('footing', readMesh(shell));
        this.layers.footing = readLayers(layers);
      });
      await this.#load('split', state.split, turn, async (key) => {
        this.view.setPieces(readPieces(await fetchBlock(`/api/blocks/split/${key}`)));
      });
      if (turn !== this.turn) return;
      this.#sections();
      this.#profile();
      $('#view-failed').hidden = true;
    } catch (error) {
      $('#view-failed').textContent = 'The part could not be loaded into the view. Reload the page; the job itself is kept.';
      $('#view-failed').hidden = false;
      console.error(error);
    } finally {
      $('#view-busy').hidden = true;
      document.body.dataset.ready = JSON.stringify({ step: state.step, layers: state.layers === this.keys.layers, supports: this.keys.supports ?? null });
    }
  }

  /** Load a block when its key is new and still wanted. */
  async #load(name, key, turn, read) {
    if (!key || this.keys[name] === key || turn !== this.turn) return;
    await read(key);
    this.keys[name] = key;
  }

  #drop(name, layers) {
    this.view.setShell(name, null);
    if (name === 'supports') this.hand.setList([]);
    this.layers[layers] = null;
    this.keys[name] = null;
  }

  /** Figures of the cards, or how they differ from the chosen one. */
  #differences() {
    $('#board').classList.toggle('different', Boolean(this.differences));
    $('#differences')?.setAttribute('aria-pressed', String(Boolean(this.differences)));
  }

  #profile() {
    if (this.pair) return;
    const { state } = this;
    const list = levels({ part: this.layers.part, support: this.layers.support, layer: state.layer, lift: state.lift, raised: state.raise, footingLayers: this.layers.footing ? state.footingLayers : 0 });
    this.profile.setStale(!state.layers || state.layers !== this.keys.layers);
    this.profile.setData(list, this.layers, state.islands.map((i) => ({ n: i.n, z: i.z + state.raise, held: i.held })), { peel: state.peel, steps: state.steps.map((z) => z + state.raise) });
    this.plan.frame(this.layers.part, this.layers.support);
    this.walk.follow();
    this.#layerMoved(this.profile.index);
  }

  /** Show in the view what belongs to the open section. */
  #sections() {
    const { open } = this;
    const pieces = open === 3 && Boolean(this.keys.split) && this.state.split === this.keys.split;
    $('#board').hidden = open !== 4;
    this.#differences();
    $('#pull-slip').hidden = !pieces;
    this.view.showPieces(pieces);
    const coloured = COLOURED.has(open) && !pieces;
    $('#legend').hidden = !coloured;
    this.view.showOverhangs(coloured);
    if (open !== 4) {
      this.#pick(false);
      this.#unpair();
    }
    this.pointed = null;
    if (!this.pair) this.view.pointAt('', {});
    this.view.setLoad(open === 4 && !this.pair ? this.state.load : null);
    const places = open === 1 ? this.placeOf === this.state.health : open === this.placedIn && ((open === 5 && this.findingsOf === this.state.findings) || (open === 6 && this.supportsOf === this.state.supports));
    this.supportsOf = this.state.supports;
    this.findingsOf = this.state.findings;
    if (this.tabs[open]) this.#tab(this.tabs[open]);
    this.hand.follow(open === 6 && !this.state.resin && Boolean($('#picked')), this.state.step);
    this.marks.follow(this.#painting());
    this.view.dimSupports(this.#painting() ? 'hidden' : open === 5 ? 'faint' : 'shown');
    this.findings.follow();
    if (!places) {
      this.view.setPlace(null);
      this.placeAt = undefined;
      delete document.body.dataset.finding;
    } else if (this.placeAt !== undefined && $('#place-words')) {
      $('#place-words').textContent = `${this.placeAt + 1} of ${$('#places').dataset.count}`;
    }
    if (pieces) {
      this.view.setTags(this.view.pieces.children.slice(0, 150).map((body) => ({ text: String(body.userData.number), at: body.userData.middle, kind: 'piece', body })));
    } else if ((open === 5 && !this.#painting()) || open === 6) {
      const { raise } = this.state;
      const few = this.state.islands.length <= 6;
      this.view.setTags(this.state.islands.slice(0, 100).map((i) => ({ text: few ? `island ${i.n}` : String(i.n), at: [i.x, i.y, i.z + raise] })));
    } else {
      this.view.setTags([]);
    }
    if (this.keys.before && !pieces) {
      if (open === 1) this.#showMended(this.mended);
      else this.view.showMended('after');
    }
    this.#jump();
  }

  // Limit and layers ------------------------------------------------------------------

  /** Step through the defects. @param {number} step  1 on, -1 back */
  async #place(step) {
    const list = $('#places');
    if (!list || !this.state.health) return;
    const count = Number(list.dataset.count);
    const same = this.placeOf === this.state.health;
    this.placeOf = this.state.health;
    this.placeAt = same && this.placeAt !== undefined ? (this.placeAt + step + count) % count : (step > 0 ? 0 : count - 1);
    const answer = await fetch(`/api/blocks/health/${this.state.health}/${this.placeAt}`);
    if (!answer.ok) return;
    const place = await answer.json();
    if (this.open !== 1) return;
    this.view.setPlace(place);
    $('#place-words').textContent = `${this.placeAt + 1} of ${count}: ${place.words}`;
    document.body.dataset.place = String(this.placeAt);
  }

  /** Show the part before mending, after it, or both. @param {'before' | 'after' | 'both'} which */
  #showMended(which) {
    if (!this.state.before || this.open !== 1) return;
    this.mended = which;
    this.view.showMended(which);
    for (const b of document.querySelectorAll('[data-mended]')) b.setAttribute('aria-pressed', String(b.dataset.mended === which));
  }

  /** Whether the marks are open, so that the part has to be fine enough to paint on. */
  #painting() {
    return this.open === 5 && this.tabs[5] === 'marks';
  }

  /** A stroke was kept. @param {string | null | undefined} marks  what is painted now; not known while more are on their way */
  #stroked(marks) {
    this.acts += 1;
    if (marks !== undefined) this.keys.marks = marks;
    else if (!this.marks.flying) this.keys.marks = undefined;
    this.#refreshSoon();
  }

  /** Show one tab of the open section. @param {string} name */
  #tab(name) {
    this.tabs[this.open] = name;
    for (const tab of document.querySelectorAll('[data-tab]')) {
      tab.setAttribute('aria-selected', String(tab.dataset.tab === name));
      document.getElementById(tab.dataset.tab).hidden = tab.dataset.tab !== name;
    }
  }

  /** Come near to a finding, in its layer. @param {import('./findings.js').Finding} finding */
  async #finding(finding) {
    const { hangs, mesh, raise } = this.state;
    const { family, number } = finding;
    this.placedIn = 5;
    if (family === 'overhang') {
      const answer = await fetch(`/api/blocks/hangs/${hangs}/${number}?mesh=${mesh}`);
      if (!answer.ok || this.open !== 5) return;
      this.profile.set(null);
      this.view.setPlace(await answer.json());
    } else {
      this.profile.goTo(finding.z + raise + 1e-6);
      const spot = family === 'layer step' || family === 'thin neck' ? null : this.view.spot(finding.at, raise, family === 'island' ? '#c8246b' : '#20303a');
      this.view.setPlace(spot);
    }
    document.body.dataset.finding = finding.name;
  }

  /** Go on to the next finding above a height, in section 5. @param {number} z  mm */
  #onward(z) {
    this.waiting = z - this.state.raise;
    if (this.open === 5) this.#jump();
    else this.#goTo(5);
  }

  /** The sheet is open at the findings: jump if one was asked for. */
  #jump() {
    if (this.waiting === undefined || this.open !== 5) return;
    this.#tab('findings');
    this.findings.above(this.waiting);
    this.waiting = undefined;
  }

  /** Come near to a place of the plate, in its layer. @param {number[]} at  x, y, z, mm */
  #look(at) {
    const { raise } = this.state;
    this.profile.goTo(Math.max(0, at[2] + raise - 1e-6));
    this.placedIn = this.open;
    this.view.setPlace(this.view.spot(at, raise, '#b3261e'));
  }

  #limit(degrees) {
    this.view.setLimit(degrees);
    $('#legend-limit').textContent = `${Math.round(degrees * 10) / 10}°`;
    $('#legend-from').textContent = `${Math.round(degrees * 10) / 10}°`;
    const out = $('#live-area');
    if (out && this.view.part) out.textContent = area(this.view.part.areaPast(degrees));
  }

  #typed(event) {
    if (event.target.id && event.target.type !== 'file' && event.target.closest('#sheet')) this.typed.set(event.target.id, event.target.value);
    if (event.target.matches('.goal input')) event.target.nextElementSibling.textContent = event.target.value;
    if (!event.target.matches('[data-limit]')) return;
    const value = Number(event.target.value);
    if (!(value >= 0 && value <= 90)) return;
    for (const other of document.querySelectorAll('[data-limit]')) if (other !== event.target) other.value = event.target.value;
    this.#limit(value);
  }

  #layerMoved(index) {
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
    this.plan.show(level, this.layers, this.state.islands);
    this.walk.moved(index);
  }

  // Pointing and keys --------------------------------------------------------------------

  /** Show what a figure speaks of while it is pointed at. @param {HTMLElement | null} line */
  #figure(line) {
    if (line === this.pointed || this.pair || this.open !== 4) return;
    const before = this.pointed;
    this.pointed = line;
    const { state } = this;
    const shows = line?.dataset.shows ?? '';
    if (before?.dataset.shows === 'layer' && shows !== 'layer') this.profile.set(this.indexBefore ?? null);
    this.view.pointAt(shows, { limit: state.limit, show: state.show, centre: state.centre });
    const tags = { islands: () => state.islands.slice(0, 100).map((i) => ({ text: String(i.n), at: [i.x, i.y, i.z + state.raise] })), cups: () => state.cups.map(([x, y, z], k) => ({ text: `cup ${k + 1}`, kind: 'piece', at: [x, y, z + state.raise] })) };
    this.view.setTags(tags[shows]?.() ?? []);
    if (shows === 'layer') {
      if (before?.dataset.shows !== 'layer') this.indexBefore = this.profile.index;
      this.profile.goTo(Number(line.dataset.z) + state.raise - 1e-6);
    }
    const meaning = $('#figure-meaning');
    if (meaning) meaning.textContent = line ? line.title : 'Point at a figure to see what it means and where.';
  }

  /** The hand has let go of the pad: the stance is kept. */
  #letGo() {
    const q = this.view.turnedTo;
    this.view.letGo();
    this.placed = null;
    htmx.ajax('POST', `${$('#tilt-pad').dataset.url}?open=4`, { target: '#sheet', values: { quaternion: JSON.stringify(q) } });
  }

  #changed(event) {
    const { target } = event;
    if (target.id === 'mix' && target.value) {
      const mix = JSON.parse(target.dataset.mixes)[target.value];
      for (const [goal, weight] of Object.entries(mix)) {
        const field = $(`#goal-${goal}`);
        field.value = weight;
        field.nextElementSibling.textContent = String(weight);
        this.typed.set(field.id, String(weight));
      }
    } else if (target.dataset.compare) {
      const picked = document.querySelectorAll('[data-compare]:checked');
      $('#compare').disabled = picked.length !== 2;
      for (const box of document.querySelectorAll('[data-compare]')) box.disabled = picked.length >= 2 && !box.checked;
    } else if (target.name === 'step-by' && this.pair) {
      this.#inStep(target.value);
    }
  }

  // Two stances side by side -----------------------------------------------------------------

  async #compare() {
    const picked = [...document.querySelectorAll('[data-compare]:checked')];
    if (picked.length !== 2) return;
    $('#view-busy').textContent = 'Cutting the layers of both…';
    $('#view-busy').hidden = false;
    try {
      const sides = await Promise.all(picked.map(async (box) => {
        const answer = await fetch(`${this.root.dataset.stanceUrl}?q=${encodeURIComponent(box.dataset.q)}`);
        if (!answer.ok) throw new Error('JobPage: the layers of a stance could not be made');
        const standing = await answer.json();
        const layers = readLayers(await fetchBlock(`/api/blocks/layers/${standing.layers}`));
        return { ...standing, layers, letter: box.dataset.compare, name: box.dataset.name };
      }));
      this.pair = sides;
      this.view.pointAt('', {});
      this.view.setLoad(null);
      this.view.showOverhangs(false);
      $('#legend').hidden = true;
      this.view.setPair(...sides);
      $('#pair-names').textContent = sides.map((s) => `${s.letter} ${s.name}`).join(' · ');
      $('#pair-slip').hidden = false;
      this.#inStep(document.querySelector('[name="step-by"]:checked').value);
      document.body.dataset.pair = sides.map((s) => s.letter).join('');
    } catch (error) {
      $('#view-failed').textContent = 'The two stances could not be compared. Try again; the job itself is kept.';
      $('#view-failed').hidden = false;
      console.error(error);
    } finally {
      $('#view-busy').hidden = true;
      $('#view-busy').textContent = 'Loading the part…';
    }
  }

  /** @param {'height' | 'share'} by */
  #inStep(by) {
    this.steps = inStep(this.pair[0], this.pair[1], by);
    this.profile.setPair(this.steps, this.pair);
    this.walk.follow();
    this.#layerMoved(null);
  }

  #unpair() {
    if (!this.pair) return;
    this.pair = null;
    delete document.body.dataset.pair;
    $('#pair-slip').hidden = true;
    this.view.setPair(null);
    for (const box of document.querySelectorAll('[data-compare]')) {
      box.checked = false;
      box.disabled = false;
    }
    this.#sections();
    this.#profile();
  }

  /** Pick a face for something. @param {boolean} on @param {string} [what]  stand, show or load */
  #pick(on, what = 'stand') {
    $('#pick-slip').hidden = !on;
    $('#pick-words').textContent = { stand: 'Point at a face of the part and click: it goes down on the plate.', show: 'Click on the side that must stay clean.', load: 'Click where the main load presses on the part.' }[what];
    $('#pick-gives').textContent = '';
    if (on) this.#unpair();
    const url = { stand: this.root.dataset.standUrl, show: $('#pick-show')?.dataset.url, load: $('#pick-load')?.dataset.url }[what];
    this.view.setPicking(on ? (normal) => {
      this.#pick(false);
      const sent = what === 'load' ? normal.map((v) => -v) : normal;
      htmx.ajax('POST', `${url}?open=4`, { target: '#sheet', values: { normal: JSON.stringify(sent) } });
    } : null, what === 'stand' ? (normal) => {
      const gives = normal && this.view.part.wouldGive(normal, this.state.limit);
      $('#pick-gives').textContent = gives ? `${area(gives.contact)} on the plate, ${area(gives.overhang)} overhang` : '';
    } : undefined);
  }

  /** Show how a variant of the supports differs from those of now, or no longer. @param {string} key */
  async #differ(key) {
    if (this.hand.differing && this.hand.key === key) {
      this.hand.differ(null);
      return;
    }
    const [shell, list] = await Promise.all([fetchBlock(`/api/blocks/supports/${key}`), supportList(key)]);
    this.hand.key = key;
    this.hand.differ({ data: readMesh(shell), list });
  }

  #ghost(card) {
    const q = card && !card.classList.contains('chosen') ? JSON.parse(card.dataset.quaternion) : null;
    if (q !== this.ghosted) this.view.setGhost(q);
    this.ghosted = q;
  }

  #clicked(event) {
    const target = event.target.closest('button');
    if (!target) return;
    if (target.id === 'stand') this.#pick(true);
    else if (target.id === 'pick-show') this.#pick(true, 'show');
    else if (target.id === 'pick-load') this.#pick(true, 'load');
    else if (target.id === 'compare') this.#compare();
    else if (target.id === 'pair-leave') this.#unpair();
    else if (target.id === 'differences') {
      const on = target.getAttribute('aria-pressed') !== 'true';
      this.differences = on;
      this.#differences();
    }
    else if (target.id === 'pick-cancel') this.#pick(false);
    else if (target.id === 'help') $('#keys').showModal();
    else if (target.id === 'perspective') {
      const on = target.getAttribute('aria-pressed') !== 'true';
      target.setAttribute('aria-pressed', String(on));
      this.view.setPerspective(on);
    } else if (target.dataset.view) {
      for (const b of document.querySelectorAll('[data-view]')) b.setAttribute('aria-pressed', String(b === target));
      this.view.look(target.dataset.view);
    } else if (target.dataset.tab) {
      this.#tab(target.dataset.tab);
      this.#follow();
    } else if (target.dataset.difference) {
      this.#differ(target.dataset.difference);
    } else if (target.dataset.fault) {
      this.#look(target.dataset.fault.split(',').map(Number));
    } else if (target.dataset.placeStep) {
      this.#place(Number(target.dataset.placeStep));
    } else if (target.dataset.mended) {
      this.#showMended(target.dataset.mended);
    } else if (target.dataset.openSection) {
      $('#preflight').open = false;
      this.#goTo(Number(target.dataset.openSection), target.dataset.part);
    } else if ('closeNotice' in target.dataset) {
      target.closest('.notice').remove();
    }
  }

  /** Open a section, of another part where one is named. @param {number} section @param {string} [part] */
  #goTo(section, part) {
    const tab = part && $(`#part-${part}`);
    if (tab && tab.getAttribute('aria-pressed') !== 'true') {
      htmx.ajax('POST', tab.getAttribute('hx-post').replace(/open=\d+/, `open=${section}`), { target: '#sheet' });
    } else if (this.open !== section) $(`#open-${section}`).click();
  }

  #key(event) {
    if (event.target.closest('input, textarea, select, dialog[open]')) {
      if (event.key === 'Escape') event.target.blur?.();
      return;
    }
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'z') {
      event.preventDefault();
      $(event.shiftKey ? '#redo' : '#undo').click();
      return;
    }
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (/^[1-9]$/.test(event.key)) {
      if (this.open !== Number(event.key)) $(`#open-${event.key}`).click();
    } else if (event.key === '[') this.profile.step(-1);
    else if (event.key === ']') this.profile.step(1);
    else if (event.key === 'b') this.#showMended(this.mended === 'before' ? 'after' : 'before');
    else if (event.key === 'n' || event.key === 'p') {
      const step = event.key === 'n' ? 1 : -1;
      if (this.open === 5) this.findings.step(step);
      else this.#place(step);
    }
    else if ((event.key === '+' || event.key === '-') && this.#painting()) this.marks.resize(event.key === '+' ? 1.15 : 1 / 1.15);
    else if (event.key === '?') $('#keys').showModal();
    else if (event.key === 'Escape') {
      this.#pick(false);
      this.#unpair();
      if (this.#painting()) this.marks.use(null);
      this.hand.leave();
    }
  }

  // Work --------------------------------------------------------------------------------------

  #listen() {
    const source = new EventSource(this.root.dataset.eventsUrl);
    source.onmessage = (message) => {
      const event = JSON.parse(message.data);
      if (event.type === 'ready') this.#refreshSoon();
      else if (event.state !== 'running') this.#refreshSoon();
      else this.#progress(event);
    };
    // After a restart of the server the stream comes back by itself; then the sheet may have moved on.
    source.onerror = () => { this.broken = true; };
    source.onopen = () => {
      if (this.broken) this.#refreshSoon();
      this.broken = false;
    };
    window.addEventListener('pagehide', () => source.close());
  }

  #progress({ stage, done, total }) {
    const bar = $('#work-bar');
    if (!bar) {
      this.#refreshSoon();
      return;
    }
    $('#work-stage').textContent = stage;
    $('#work-count').textContent = total > 1 ? `${done} of ${total}` : '';
    if (total > 1) bar.value = (100 * done) / total;
    else bar.removeAttribute('value');
  }

  #refreshSoon() {
    clearTimeout(this.soon);
    this.soon = setTimeout(() => this.#refresh(), 120);
  }

  async #refresh() {
    // Never under the hands: a field that is being typed in, or a slider that is being dragged, waits for its end.
    const active = document.activeElement;
    if (active?.closest('#sheet') && this.typed.has(active.id)) {
      this.late = true;
      return;
    }
    if (this.hand.sending) {
      this.#refreshSoon();
      return;
    }
    this.late = false;
    this.refreshing = true;
    const { acts } = this;
    try {
      this.refresh = htmx.ajax('GET', `${this.root.dataset.sheetUrl}?open=${this.open}`, { target: '#sheet' });
      await this.refresh;
    } finally {
      this.refreshing = false;
      // A change went out while this sheet was on its way: it may be older than the answer to the change.
      if (acts !== this.acts) this.#refreshSoon();
    }
  }
}

window.heron = new JobPage();
window.heronLengths = new LengthEcho();
