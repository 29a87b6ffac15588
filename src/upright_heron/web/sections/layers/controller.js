import { KINDS } from '../../static/js/bead-colours.js';
import { fetchBlock, readPaths, readSpeeds } from '../../static/js/blocks.js';
import { MaskView } from '../../static/js/mask-view.js';
import { all, field, find, SectionController, the } from '../../static/js/section.js';

/** How long playing the paths of a layer takes, s. */
const PLAYED_S = 6;
/** Index of a layer whose paths are there before those of most others. */
const SOON = 19;
/** What is picked on the part, by the button that asks for it. @type {Record<string, string>} */
const PICKED = {
  'pick-seam': 'Click where the seam is to be; click again for a line',
  'pick-body': 'Click the body that the second nozzle is to print',
};

/** Section 8: the mask of the layer that is shown on a resin machine, and the paths of the nozzle on others. */
export default class LayersController extends SectionController {
  on = false;
  /** What is printed is cut open there. @type {{from: number, deep: number} | null} */
  cut = null;

  constructor(page) {
    super(page);
    this.mask = new MaskView(/** @type {HTMLCanvasElement} */ (the('#mask')), (words) => { the('#mask-words').textContent = words; });
    // The same file again, mended meanwhile, is a change too.
    document.body.addEventListener('htmx:after:request', () => {
      const file = /** @type {HTMLInputElement | null} */ (find('#read-table'));
      if (file?.value) file.value = '';
    });
    new ResizeObserver(() => this.on && this.mask.draw()).observe(the('#mask'));
    the('#paths-by').addEventListener('change', () => this.#byWhat());
    the('#paths-upto').addEventListener('input', () => this.#upTo(Number(field('#paths-upto').value)));
    the('#paths-deep').addEventListener('input', () => this.#cutOpen(this.cut && { ...this.cut, deep: Number(field('#paths-deep').value) / 1000 }));
    the('#paths-seams').addEventListener('change', (e) => {
      this.view.beads.seamsOn = /** @type {HTMLInputElement} */ (e.target).checked;
      this.page.layerMoved(this.page.profile.index);
    });
    document.body.addEventListener('input', (e) => {
      if (/** @type {HTMLElement} */ (e.target).id === 'find-setting') this.#findSetting();
    });
    the('#paths-kinds').addEventListener('change', (e) => {
      const box = /** @type {HTMLInputElement} */ (e.target);
      this.view.beads.uniforms.shown.value[Number(box.dataset.kind)] = box.checked ? 1 : 0;
      this.view.redraw();
    });
  }

  update() {
    this.#paths();
    // The part was stood anew, or its layers are others.
    if (this.cut && this.ground !== this.page.profile.levels) this.#cutOpen(this.cut);
    this.#findSetting();
    const button = find('#show-mask');
    if (!button) this.on = false;
    button?.setAttribute('aria-pressed', String(this.on));
    if (button) button.textContent = this.on ? 'Show the part' : 'Show the mask';
    the('#mask-panel').hidden = !this.on;
    if (!this.on) return;
    const known = JSON.stringify([this.page.state.step, this.page.state.item]);
    if (known !== this.of) this.mask.forget();
    this.of = known;
    this.layerMoved(this.page.profile.index);
  }

  leave() {
    this.on = false;
    the('#mask-panel').hidden = true;
    this.#hidePaths();
  }

  /** @param {number | null} index */
  layerMoved(index) {
    this.#tellPaths();
    if (!this.on) return;
    const { profile, state } = this.page;
    const level = Math.min(index ?? 0, profile.levels.length - 1);
    if (level < 0) return;
    const address = /** @type {HTMLElement} */ (the('#show-mask')).dataset.url ?? '';
    const [x, y, swing] = state.stands;
    const turn = (swing * Math.PI) / 180, cos = Math.cos(turn), sin = Math.sin(turn);
    const layer = profile.levels[level].part;
    const islands = state.islands.filter((one) => one.layer === layer).map((one) => [x + cos * one.x - sin * one.y, y + sin * one.x + cos * one.y]);
    const place = `item=${encodeURIComponent(state.item)}&x=${x}&y=${y}&swing=${swing}&step=${state.step}`;
    this.mask.show({ layer: level, url: (k) => `${address}?layer=${k}&${place}`, islands });
  }

  clicked(button) {
    if (button.id === 'show-paths') {
      if (this.view.beads.on) this.#hidePaths();
      else {
        this.view.beads.on = true;
        const third = Math.floor(this.page.profile.levels.length / 3);
        // While they are laid, one that is there soon.
        if (this.page.profile.index === null) this.page.profile.set(this.wanted ? third : Math.min(third, SOON));
        this.#paths();
      }
      return true;
    }
    if (button.dataset.height) {
      this.#fromProfile(button.dataset.height);
      return true;
    }
    if (button.dataset.low) {
      field('#strand-low').value = button.dataset.low;
      field('#strand-high').value = button.dataset.high ?? '';
      return true;
    }
    if (button.id in PICKED) {
      const known = /** @type {number[][]} */ (JSON.parse(button.dataset.known ?? '[]'));
      this.pickPlace(PICKED[button.id], (at) => {
        void this.page.send(button.dataset.url ?? '', { at_mm: JSON.stringify([...known.slice(-19), at]) });
      });
      return true;
    }
    if (button.id === 'paths-open' || button.id === 'open-here') {
      const opens = button.id === 'open-here' || !this.cut;
      this.#cutOpen(opens ? { from: this.view.eyeFrom, deep: Number(field('#paths-deep').value) / 1000 } : null);
      return true;
    }
    if (button.id === 'paths-play') {
      this.#play(button.getAttribute('aria-pressed') !== 'true');
      return true;
    }
    if (button.id !== 'show-mask') return false;
    this.on = !this.on;
    if (this.on && this.page.profile.index === null) this.page.profile.set(0);
    this.update();
    return true;
  }

  escape() {
    if (this.view.beads.on) this.#hidePaths();
    if (!this.on) return;
    this.on = false;
    this.update();
  }

  /** A finding was chosen that something is set in below: the pause lies right under it. @param {HTMLInputElement} input */
  changed(input) {
    if (input.id !== 'pause-roof') return;
    const z = /** @type {HTMLSelectElement} */ (/** @type {unknown} */ (input)).selectedOptions[0]?.dataset.z;
    if (z) field('#pause-z').value = z;
  }

  /** The height of the layer that is shown goes into a field. @param {string} id */
  #fromProfile(id) {
    const { profile, state } = this.page;
    if (profile.index === null) {
      this.#note('Choose a layer in the height profile first.');
      return;
    }
    // Heights of their own are told without the footing.
    const top = profile.levels[profile.index].z + (id.endsWith('high') ? 0.5 : -0.5) * state.layer - state.raise;
    field(`#${id}`).value = String(Math.max(0, Math.round(top * 1000) / 1000));
  }

  /** @param {string} words */
  #note(words) {
    const place = find('#heights-note');
    if (place) place.textContent = words;
  }

  /** Settings whose words hold what was typed; without any those that the shop sees. */
  #findSetting() {
    const typed = (/** @type {HTMLInputElement | null} */ (find('#find-setting'))?.value ?? '').trim().toLowerCase();
    let seen = 0;
    for (const row of all('.setting')) {
      row.hidden = typed ? !typed.split(/\s+/).every((word) => row.dataset.words?.includes(word)) : row.dataset.shown !== 'yes';
      seen += row.hidden ? 0 : 1;
    }
    const none = find('#no-setting');
    if (none) none.hidden = seen > 0 || !typed;
  }

  // Paths ---------------------------------------------------------------------------

  #hidePaths() {
    this.#play(false);
    this.#cutOpen(null);
    this.view.beads.on = false;
    this.#paths();
  }

  /** Show the paths of the layer that is shown, as soon as they are there. */
  async #paths() {
    const { beads } = this.view;
    const button = find('#show-paths');
    button?.setAttribute('aria-pressed', String(beads.on));
    if (button) button.textContent = beads.on ? 'Show the part' : 'Show the paths';
    the('#paths-legend').hidden = !beads.on;
    this.#drop();
    this.#tellPaths();
    const key = this.wanted ?? this.first;
    if (beads.on && key && key !== this.asked) await this.#fetch(key);
    void this.#speeds();
    this.#tellPaths();
    // Nothing is drawn anew while work is told of, unless paths come or go.
    const shows = beads.on ? JSON.stringify([this.laid, this.page.profile.index]) : undefined;
    if (shows === this.shows) return;
    this.shows = shows;
    this.page.layerMoved(this.page.profile.index);
  }

  /** The paths as they are now; null while they are laid. */
  get wanted() {
    return this.page.state?.toolpaths ?? null;
  }

  /** Those of the lowest layers as they are now, while the rest is laid. */
  get first() {
    return this.page.state?.firstPaths ?? null;
  }

  /** Those of another part or stance would be drawn in the wrong place; those of other settings stay till the new ones come. */
  #drop() {
    const { item, mesh, rotation } = this.page.state ?? {};
    const of = JSON.stringify([item, mesh, rotation]);
    if (of === this.laidOf) return;
    this.laidOf = of;
    this.asked = this.laid = null;
    this.view.beads.load(null);
  }

  /** @param {string} key  of paths */
  async #fetch(key) {
    this.asked = key;
    this.failed = null;
    try {
      // Browsers keep blocks for good: one of an earlier layout is not what is asked for.
      const data = readPaths(await fetchBlock(`/api/blocks/paths/${key}?layout=UHB3`));
      if (this.asked !== key || (key === this.first && this.#looksHigher(data))) return;
      this.view.beads.load(data);
      this.laid = key;
      this.fast = null;
      this.#legend();
    } catch {
      if (this.asked !== key) return;
      this.asked = null;
      this.failed = key;
    }
  }

  /** Whether older paths are looked at higher up than these reach: they stay then. @param {import('../../static/js/blocks.js').PathsData} data */
  #looksHigher(data) {
    const { levels, index } = this.page.profile;
    return Boolean(this.laid) && index !== null && levels[index]?.z > data.tops[data.count - 1];
  }

  #legend() {
    const there = this.view.beads.kinds;
    const rows = KINDS.map((name, kind) => {
      if (!there.has(kind)) return null;
      const row = document.createElement('label');
      row.className = `kind kind-${kind}`;
      const box = document.createElement('input');
      box.type = 'checkbox';
      box.checked = this.view.beads.uniforms.shown.value[kind] > 0;
      box.dataset.kind = String(kind);
      row.append(name, box);
      return row;
    });
    the('#paths-kinds').replaceChildren(...rows.filter((row) => row !== null));
  }

  /** How fast the nozzle goes, once it is asked for. */
  async #speeds() {
    const key = this.page.state?.speeds ?? null;
    const mode = Number(field('#paths-by').value);
    // Speeds are those of the paths that are told of now.
    if ((mode !== 2 && mode !== 3) || !key || key === this.fast || !this.laid || this.laid !== this.wanted) return;
    this.fast = key;
    const came = await fetchBlock(`/api/blocks/speeds/${key}`).catch(() => null);
    if (this.fast !== key) return;
    if (!came) {
      this.fast = null;
      return;
    }
    const { step, speeds } = readSpeeds(came);
    this.view.beads.tellSpeeds(speeds);
    this.fastest = step * this.view.beads.uniforms.fastest.value;
    this.#speedWords();
    this.page.layerMoved(this.page.profile.index);
  }

  #speedWords() {
    const most = this.fastest ?? 0;
    const slow = Number(field('#paths-by').value) === 3;
    the('#speed-low').textContent = slow ? `${(50 / most).toFixed(1)} s a cm` : '0 mm/s';
    the('#speed-high').textContent = slow ? `${(10 / most).toFixed(1)}` : `${most.toFixed(0)}`;
  }

  #byWhat() {
    const mode = Number(field('#paths-by').value);
    this.view.beads.uniforms.mode.value = mode;
    the('#paths-kinds').classList.toggle('plain', mode !== 0);
    the('#paths-widths').hidden = mode !== 1;
    the('#paths-speeds').hidden = mode !== 2 && mode !== 3;
    the('#paths-nozzles').hidden = mode !== 4;
    this.#speedWords();
    void this.#speeds();
    this.view.redraw();
  }

  /** @param {number} share  of the layer, in thousandths */
  #upTo(share) {
    field('#paths-upto').value = String(share);
    this.view.beads.uniforms.upto.value = share / 1000;
    this.view.redraw();
  }

  /** @param {boolean} on */
  #play(on) {
    const button = the('#paths-play');
    button.setAttribute('aria-pressed', String(on));
    button.textContent = on ? 'Stop' : 'Play';
    cancelAnimationFrame(this.frame ?? 0);
    if (!on) return;
    let last = performance.now();
    let share = Number(field('#paths-upto').value);
    if (share >= 1000) share = 0;
    const step = (/** @type {number} */ now) => {
      share += (1000 * (now - last)) / 1000 / PLAYED_S;
      last = now;
      this.#upTo(Math.min(share, 1000));
      if (share < 1000) this.frame = requestAnimationFrame(step);
      else this.#play(false);
    };
    this.frame = requestAnimationFrame(step);
  }

  /** Cut what is printed open where the eye is, or close it. @param {{from: number, deep: number} | null} cut */
  #cutOpen(cut) {
    const changes = Boolean(cut || this.cut);
    this.cut = cut;
    const button = the('#paths-open');
    button.setAttribute('aria-pressed', String(Boolean(cut)));
    button.textContent = cut ? 'Close it' : 'Cut open';
    the('#open-here').hidden = the('#open-fields').hidden = !cut;
    if (!changes) return;
    const { profile, layers } = this.page;
    this.ground = profile.levels;
    const deep = this.view.cutOpen(cut, { levels: profile.levels, part: layers.part });
    if (cut) the('#open-told').textContent = `${deep.toFixed(1)} mm deep, seen from ${fromWhere(cut.from)}`;
    this.page.layerMoved(profile.index);
  }

  #tellPaths() {
    const { beads } = this.view;
    document.body.dataset.paths = '';
    if (!beads.on) return;
    if (this.failed && this.failed === this.wanted) this.#told('The paths could not be loaded. Show them again to try once more.');
    else if (!beads.data || this.laid !== (this.wanted ?? this.first)) this.#told('Laying paths…');
    else if (!this.wanted) this.#told(this.#tellFirst());
    else if (!beads.mesh.visible) this.#told(this.page.profile.index === null ? 'Choose a layer in the height profile.' : 'Nothing is laid in this layer.');
    else {
      this.#told(`layer ${beads.layer + 1} of ${beads.data.count} at ${beads.data.tops[beads.layer].toFixed(2)} mm`);
      document.body.dataset.paths = `${beads.layer} ${beads.uniforms.count.value}`;
    }
  }

  #tellFirst() {
    const { beads } = this.view;
    const { count, tops } = beads.data;
    if (!beads.mesh.visible) return `Laying paths… The first ${count} layers are there.`;
    return `layer ${beads.layer + 1} of the first ${count} at ${tops[beads.layer].toFixed(2)} mm; the rest is being laid`;
  }

  /** @param {string} words */
  #told(words) {
    the('#paths-told').textContent = words;
  }
}

/** A way across the plate in words. @param {number} degrees  from the front to the right */
function fromWhere(degrees) {
  const [turn, to] = [Math.abs(degrees), degrees < 0 ? 'left' : 'right'];
  if (turn % 180 === 0) return turn ? 'behind' : 'the front';
  return turn === 90 ? `the ${to}` : `${turn < 90 ? turn : 180 - turn}° ${to} of ${turn < 90 ? 'the front' : 'behind'}`;
}
