import { lookingHeaders } from '../../static/js/looking.js';
import { facetGeometry } from '../../static/js/frusta.js';
import { all } from '../../static/js/section.js';
import * as THREE from 'three';
import { acceleratedRaycast, MeshBVH } from 'three-mesh-bvh';

/**
 * @typedef {object} Listed
 * @property {string} id
 * @property {string} reason
 * @property {string[]} patches  ids of what it holds
 * @property {string} hand
 * @property {number} facets  of its shell
 * @property {number[]} at  where it touches the part, mm
 * @property {number} volume  mm3
 */

const $ = (selector) => document.querySelector(selector);
/** A surface that looks up by more than this cannot be held from below, as in the core. */
const UPWARD = 0.35;
const COLOURS = { picked: '#20303a', good: '#2f7d4f', bad: '#b3261e', now: '#b4693b', other: '#2f5d9c', both: '#b9b2a4' };
/** A click may move by this many pixels. */
const STILL = 4;

/** Work by hand on supports: picks them in the view, puts them in, drags their ends and joints, compares variants. */
export class SupportHand {
  /**
   * @param {import('../../static/js/view.js').View} view
   * @param {{raise: () => number, acted: () => void, quiet: () => Promise<void>, open: () => void, send: (url: string, values: Record<string, unknown>) => Promise<void>}} page
   */
  constructor(view, page) {
    this.view = view;
    this.page = page;
    /** @type {Listed[]} */
    this.list = [];
    /** Where the facets of each support begin. @type {number[]} */
    this.starts = [0];
    /** @type {Set<string>} */
    this.ids = new Set();
    /** What a click on the view does: picks, adds, or draws a rectangle. @type {'pick' | 'add' | 'select'} */
    this.mode = 'pick';
    /** Key of the supports that those of now are compared with. @type {string | null} */
    this.key = null;
    this.on = false;
    const { canvas } = view;
    this.grips = document.createElement('div');
    this.grips.className = 'grips';
    this.band = document.createElement('div');
    this.band.className = 'band';
    this.band.hidden = true;
    canvas.parentElement.append(this.grips, this.band);
    this.mark = new THREE.Mesh(new THREE.BufferGeometry(), new THREE.MeshLambertMaterial({ color: COLOURS.picked, emissive: '#2f9fc4', emissiveIntensity: 0.4, flatShading: true, polygonOffset: true, polygonOffsetFactor: -1, polygonOffsetUnits: -1, clippingPlanes: view.planes }));
    this.post = new THREE.Mesh(new THREE.CylinderGeometry(1, 1, 1, 20).rotateX(Math.PI / 2), new THREE.MeshBasicMaterial({ transparent: true, opacity: 0.6, depthWrite: false }));
    this.line = new THREE.Line(new THREE.BufferGeometry(), new THREE.LineBasicMaterial({ color: COLOURS.picked, depthTest: false, transparent: true }));
    this.others = new THREE.Group();
    for (const object of [this.mark, this.post, this.line]) object.visible = false;
    this.line.renderOrder = 6;
    view.scene.add(this.mark, this.post, this.line, this.others);
    view.drawn = () => this.#placeGrips();
    canvas.addEventListener('pointerdown', (e) => this.#down(e), { capture: true });
    canvas.addEventListener('pointermove', (e) => this.#move(e));
    canvas.addEventListener('pointerup', (e) => this.#up(e));
    canvas.addEventListener('pointerleave', () => this.#noPost());
    document.addEventListener('click', (e) => this.#clicked(e));
    document.addEventListener('change', (e) => {
      if (/** @type {HTMLInputElement} */ (e.target).id === 'hand-reason') this.#byReason(/** @type {HTMLInputElement} */ (e.target));
      if (/** @type {HTMLInputElement} */ (e.target).id === 'tick-all') for (const box of /** @type {HTMLInputElement[]} */ (all('#patches [name="patches[]"]'))) box.checked = /** @type {HTMLInputElement} */ (e.target).checked;
    });
    document.addEventListener('keydown', (e) => {
      if ((e.key === 'Delete' || e.key === 'Backspace') && this.on && this.ids.size && !/** @type {HTMLInputElement} */ (e.target).closest('input, textarea, select')) {
        e.preventDefault();
        this.send('delete');
      }
    });
  }

  // What is loaded ------------------------------------------------------------

  /** Supports have come, or gone. @param {Listed[]} list */
  setList(list) {
    this.list = list;
    this.starts = [0];
    for (const support of list) this.starts.push(this.starts.at(-1) + support.facets);
    this.byId = new Map(list.map((support, k) => [support.id, k]));
    const { geometry } = this.view.supports;
    geometry.boundsTree = undefined;
    this.view.supports.raycast = acceleratedRaycast;
    for (const id of this.ids) if (!this.byId.has(id)) this.ids.delete(id);
    if (this.compared) this.differ(this.compared);
    this.#show();
  }

  /**
   * After a new sheet has come, or another tab was opened.
   * @param {boolean} on  whether supports can be worked on @param {number} step  of the job
   */
  follow(on, step) {
    this.on = on;
    const panel = $('#hand');
    // What was said of the last change stays until the next one, though figures come in meanwhile.
    const said = $('#hand-said');
    if (said) this.said = { step, words: said.cloneNode(true) };
    else if (panel && this.said?.step === step) $('#picked')?.before(this.said.words.cloneNode(true));
    const made = panel?.dataset.picked;
    if (made && made !== this.told) {
      this.ids = new Set([made]);
      this.told = made;
    }
    if (!panel?.dataset.picked) this.told = '';
    if (!on) this.#use('pick');
    for (const [id, mode] of [['hand-add', 'add'], ['hand-select', 'select']]) $(`#${id}`)?.setAttribute('aria-pressed', String(this.mode === mode));
    this.#show();
    if (!on || !$('#side') || $('#side').hidden) this.differ(null);
  }

  /** Draw what is picked, and fetch what is known of it. */
  #show() {
    const ids = [...this.ids].filter((id) => this.byId?.has(id));
    this.mark.visible = this.on && ids.length > 0;
    if (this.mark.visible) {
      this.mark.geometry.dispose();
      this.mark.geometry = this.#cutOut(this.view.supports.geometry, ids.map((id) => this.byId.get(id)), this.starts);
      this.mark.position.copy(this.view.supports.position);
    }
    document.body.dataset.picked = ids.join(' ');
    const panel = $('#picked');
    if (this.on && panel) {
      const asked = JSON.stringify(ids);
      if (panel.dataset.asked === asked) return this.view.redraw();
      panel.dataset.asked = asked;
      const url = `${$('#hand').dataset.pickedUrl}?ids=${encodeURIComponent(asked)}`;
      this.asked = asked;
      fetch(url, { headers: lookingHeaders() }).then((answer) => (answer.ok ? answer.text() : '')).then((text) => {
        if (this.asked !== asked || !panel.isConnected || !text) return;
        if (document.activeElement?.id !== 'picked-width') panel.innerHTML = text;
        this.#grip(JSON.parse($('#picked .picked')?.dataset.handles ?? '[]'));
      });
    } else this.#grip([]);
    return this.view.redraw();
  }

  /** Shells of some supports, as a geometry of their own. */
  #cutOut(from, numbers, starts) {
    const geometry = new THREE.BufferGeometry();
    const index = from.index.array;
    const parts = numbers.map((k) => index.subarray(3 * starts[k], 3 * starts[k + 1]));
    const whole = new Uint32Array(parts.reduce((n, p) => n + p.length, 0));
    let at = 0;
    for (const part of parts) {
      whole.set(part, at);
      at += part.length;
    }
    geometry.setAttribute('position', from.getAttribute('position'));
    geometry.setIndex(new THREE.BufferAttribute(whole, 1));
    return geometry;
  }

  /** Number of the support under a ray, or -1. */
  #under(ray) {
    const { supports, part } = this.view;
    if (!supports.visible || !supports.geometry.index) return -1;
    // Indirect: the order of the facets tells whose they are.
    supports.geometry.boundsTree ??= new MeshBVH(supports.geometry, { indirect: true });
    ray.firstHitOnly = true;
    const hit = ray.intersectObject(supports, false)[0];
    if (!hit || hit.point.z > this.view.cut.constant) return -1;
    const before = part?.hit(ray);
    if (before && before.distance < hit.distance - 0.05 && part.mesh.visible) return -1;
    let low = 0, high = this.list.length - 1;
    while (low < high) {
      const middle = (low + high + 1) >> 1;
      if (this.starts[middle] <= hit.faceIndex) low = middle;
      else high = middle - 1;
    }
    return low;
  }

  // The pointer ------------------------------------------------------------------

  /** @param {'pick' | 'add' | 'select'} mode */
  #use(mode) {
    this.mode = mode;
    this.view.canvas.classList.toggle('picking', mode !== 'pick');
    this.#noPost();
    for (const [id, name] of [['hand-add', 'add'], ['hand-select', 'select']]) $(`#${id}`)?.setAttribute('aria-pressed', String(mode === name));
    $('#hand-slip').hidden = mode !== 'add';
    $('#hand-words').textContent = 'Point at an underside or a wall, and click.';
  }

  #down(event) {
    if (!this.on || event.button !== 0) return;
    this.pressed = [event.clientX, event.clientY];
    if (this.mode === 'select') {
      event.stopImmediatePropagation();
      this.view.canvas.setPointerCapture(event.pointerId);
      this.corner = this.pressed;
    }
  }

  #move(event) {
    if (!this.on) return;
    if (this.corner) this.#rectangle(event);
    else if (this.mode === 'add' && !event.buttons) this.#aim(event);
  }

  #up(event) {
    if (this.corner) {
      const box = this.#rectangle(event);
      this.corner = null;
      this.band.hidden = true;
      if (!event.shiftKey) this.ids.clear();
      for (const support of this.list) if (this.#inside(support, box)) this.ids.add(support.id);
      this.#use('pick');
      this.#show();
      return;
    }
    if (!this.on || !this.pressed || event.button !== 0) return;
    const [x, y] = this.pressed;
    this.pressed = null;
    if (Math.hypot(event.clientX - x, event.clientY - y) > STILL) return;
    if (this.mode === 'add') this.#add(event);
    else if (!this.view.chosen) this.#pick(this.#under(this.view.ray(event)), event.shiftKey);
  }

  #pick(number, more) {
    if (number < 0 && (more || !this.ids.size)) return;
    const id = this.list[number]?.id;
    if (!more) this.ids.clear();
    if (id && more && this.ids.has(id)) this.ids.delete(id);
    else if (id) this.ids.add(id);
    if (id) this.page.open();
    this.#show();
  }

  #rectangle(event) {
    const frame = this.view.canvas.getBoundingClientRect();
    const xs = [this.corner[0], event.clientX].map((v) => v - frame.left).sort((a, b) => a - b);
    const ys = [this.corner[1], event.clientY].map((v) => v - frame.top).sort((a, b) => a - b);
    this.band.hidden = false;
    Object.assign(this.band.style, { left: `${xs[0]}px`, top: `${ys[0]}px`, width: `${xs[1] - xs[0]}px`, height: `${ys[1] - ys[0]}px` });
    return { xs, ys };
  }

  /** Whether a support is touched by a rectangle of the page: its contact, or the middle of its shell. */
  #inside(support, { xs, ys }) {
    const [x, y, z] = support.at;
    const raised = this.page.raise();
    return [[x, y, z + raised], [x, y, z / 2 + raised]].some((place) => {
      const [px, py] = this.#onPage(place);
      return px >= xs[0] && px <= xs[1] && py >= ys[0] && py <= ys[1];
    });
  }

  #onPage(place) {
    const { clientWidth: w, clientHeight: h } = this.view.canvas;
    _point.fromArray(place).project(this.view.camera);
    return [((_point.x + 1) / 2) * w, ((1 - _point.y) / 2) * h, _point.z];
  }

  #byReason(field) {
    const { value } = field;
    if (!value) return;
    const trapped = value === '*trapped' ? JSON.parse(field.selectedOptions[0].dataset.ids) : [];
    this.ids = new Set(this.list.filter((s) => (value === '*hand' ? s.hand : value === '*trapped' ? trapped.includes(s.id) : s.patches.includes(value))).map((s) => s.id));
    field.value = '';
    this.#show();
  }

  // Putting in ----------------------------------------------------------------------

  #surface(event) {
    const { part } = this.view;
    const hit = part?.hit(this.view.ray(event));
    if (!hit) return null;
    const normal = new THREE.Vector3().fromArray(part.normals, 3 * hit.faceIndex).transformDirection(part.mesh.matrixWorld);
    return { point: hit.point.clone(), normal };
  }

  get width() {
    const value = Number(String($('#hand-width')?.value).replace(',', '.'));
    return value > 0 ? value : 2;
  }

  /** Show the size of the post before the click. */
  #aim(event) {
    const place = this.#surface(event);
    this.post.visible = Boolean(place);
    if (place) {
      const good = place.normal.z <= UPWARD;
      const below = this.view.part.below(place.point);
      const low = below ?? 0;
      const high = Math.max(0.1, place.point.z - low);
      this.post.material.color.set(good ? COLOURS.good : COLOURS.bad);
      this.post.scale.set(this.width / 2, this.width / 2, high);
      this.post.position.set(place.point.x, place.point.y, low + high / 2);
      $('#hand-words').textContent = good ? `${this.width} mm thick, ${high.toFixed(1)} mm high${below === null ? '' : ', to the part below'}` : 'This looks up: nothing can hold it from below.';
    }
    this.view.redraw();
  }

  #noPost() {
    if (!this.post.visible) return;
    this.post.visible = false;
    this.view.redraw();
  }

  #add(event) {
    const place = this.#surface(event);
    if (!place) return;
    this.#noPost();
    const [x, y, z] = place.point.toArray();
    this.send('add', { at: [x, y, z - this.page.raise()], facing: place.normal.toArray(), width: this.width });
  }

  // Ends and joints --------------------------------------------------------------------

  /** @param {{node: number, kind: string, at: number[]}[]} grips */
  #grip(grips) {
    // Never under the hand: a new sheet may come while one is dragged.
    if (this.dragging) return;
    this.grips.replaceChildren();
    this.handles = grips.map((grip) => {
      const element = document.createElement('button');
      element.type = 'button';
      element.className = `grip ${grip.kind}`;
      element.dataset.node = String(grip.node);
      element.setAttribute('aria-label', `Drag the ${grip.kind}`);
      element.addEventListener('pointerdown', (e) => this.#take(e, grip, element));
      this.grips.append(element);
      return { ...grip, element };
    });
    // At once, not with the next picture: a hand may be there already.
    this.#placeGrips();
    this.view.redraw();
  }

  #placeGrips() {
    for (const { at, element } of this.handles ?? []) {
      const [x, y, depth] = this.#onPage([at[0], at[1], at[2] + this.page.raise()]);
      element.hidden = depth > 1;
      element.style.transform = `translate(${x}px, ${y}px) translate(-50%, -50%)`;
    }
  }

  #take(event, grip, element) {
    event.preventDefault();
    event.stopPropagation();
    element.setPointerCapture(event.pointerId);
    this.dragging = true;
    const raise = this.page.raise();
    const from = new THREE.Vector3(grip.at[0], grip.at[1], grip.at[2] + raise);
    let place = null;
    const move = (e) => {
      place = this.#whereTo(e, grip, from);
      if (!place) return;
      this.line.visible = true;
      this.line.geometry.setFromPoints([from, place.point]);
      const [x, y] = this.#onPage(place.point.toArray());
      element.style.transform = `translate(${x}px, ${y}px) translate(-50%, -50%)`;
      this.view.redraw();
    };
    const drop = () => {
      this.dragging = false;
      element.removeEventListener('pointermove', move);
      this.line.visible = false;
      if (!place) return;
      const [x, y, z] = place.point.toArray();
      grip.at = [x, y, z - raise];
      this.send('move', { node: grip.node, at: grip.at, facing: place.normal?.toArray() ?? [0, 0, -1] });
    };
    element.addEventListener('pointermove', move);
    element.addEventListener('pointerup', drop, { once: true });
    element.addEventListener('pointercancel', () => {
      place = null;
      drop();
    }, { once: true });
  }

  /** Where a grip would be put: a tip on the surface, a foot on the part or the plate, a joint at its height. */
  #whereTo(event, grip, from) {
    if (grip.kind === 'tip') return this.#surface(event);
    const ray = this.view.ray(event);
    if (grip.kind === 'foot') {
      const place = this.#surface(event);
      if (place && place.normal.z > UPWARD) return place;
    }
    const level = grip.kind === 'foot' ? this.page.raise() : from.z;
    const point = ray.ray.intersectPlane(new THREE.Plane(new THREE.Vector3(0, 0, 1), -level), new THREE.Vector3());
    return point ? { point, normal: null } : null;
  }

  // Variants ------------------------------------------------------------------------------

  /**
   * Draw how other supports differ from those of now; without them, these again.
   * @param {{data: import('../../static/js/frusta.js').Shell, list: Listed[]} | null} other
   */
  differ(other) {
    for (const child of /** @type {THREE.Mesh<THREE.BufferGeometry, THREE.Material>[]} */ (this.others.children)) {
      child.geometry.dispose();
      child.material.dispose();
    }
    this.others.clear();
    this.compared = other;
    this.differing = Boolean(other);
    const { supports } = this.view;
    if ($('#difference-words')) $('#difference-words').hidden = !other;
    for (const b of all('[data-difference]')) b.setAttribute('aria-pressed', String(this.differing && b.dataset.difference === this.key));
    document.body.dataset.differs = '';
    if (!other) {
      if (this.hid) supports.visible = Boolean(supports.geometry.index);
      this.hid = false;
      this.view.redraw();
      return;
    }
    const same = (a, b) => a && b && a.facets === b.facets && Math.abs(a.volume - b.volume) < 1e-4;
    const theirs = new Map(other.list.map((s) => [s.id, s]));
    const numbers = (list, keep) => list.map((s, k) => [s, k]).filter(([s]) => keep(s)).map(([, k]) => k);
    const [geometry, own] = [facetGeometry(other.data), facetGeometry(this.view.shells.supports)];
    const starts = [0];
    for (const s of other.list) starts.push(starts.at(-1) + s.facets);
    const both = numbers(this.list, (s) => same(s, theirs.get(s.id)));
    const now = numbers(this.list, (s) => !same(s, theirs.get(s.id)));
    const mine = new Map(this.list.map((s) => [s.id, s]));
    const only = numbers(other.list, (s) => !same(s, mine.get(s.id)));
    for (const [from, picked, at, name] of [[own, both, this.starts, 'both'], [own, now, this.starts, 'now'], [geometry, only, starts, 'other']]) {
      if (!picked.length || !from.index) continue;
      const body = new THREE.Mesh(this.#cutOut(from, picked, at), new THREE.MeshLambertMaterial({ color: COLOURS[name], emissive: COLOURS[name], emissiveIntensity: 0.2, flatShading: true, transparent: name === 'both', opacity: name === 'both' ? 0.5 : 1, clippingPlanes: this.view.planes }));
      body.position.copy(supports.position);
      this.others.add(body);
    }
    supports.visible = false;
    this.hid = true;
    document.body.dataset.differs = `${now.length} ${only.length} ${both.length}`;
    this.view.redraw();
  }

  // Sending ------------------------------------------------------------------------------

  #clicked(event) {
    const target = event.target.closest?.('button');
    if (!target) return;
    if (target.id === 'hand-add') this.#use(this.mode === 'add' ? 'pick' : 'add');
    else if (target.id === 'hand-select') this.#use(this.mode === 'select' ? 'pick' : 'select');
    else if (target.id === 'hand-restore') this.send('restore');
    else if (target.dataset.hand) this.send(target.dataset.hand, target.dataset.hand === 'resize' ? { width: $('#picked-width').value } : {});
    else if (target.dataset.support && this.byId?.has(target.dataset.support)) {
      this.ids = new Set([target.dataset.support]);
      this.#show();
    }
  }

  /** @param {string} how @param {Record<string, any>} [values] */
  async send(how, values = {}) {
    const panel = $('#hand');
    if (!panel) return;
    const sent = { how, ids: JSON.stringify([...this.ids]) };
    for (const [name, value] of Object.entries(values)) sent[name] = typeof value === 'object' ? JSON.stringify(value) : String(value);
    this.page.acted();
    this.sending = true;
    try {
      // Of two requests for one target the later one would end the other.
      await this.page.quiet();
      await this.page.send(panel.dataset.url, sent);
    } finally {
      this.sending = false;
    }
  }

  /** Let go of what is picked, put tools away. */
  leave() {
    if (this.mode !== 'pick') this.#use('pick');
    else if (this.ids.size) {
      this.ids.clear();
      this.#show();
    }
  }
}

const _point = new THREE.Vector3();
