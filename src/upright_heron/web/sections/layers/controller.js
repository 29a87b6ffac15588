import { MaskView } from '../../static/js/mask-view.js';
import { find, SectionController, the } from '../../static/js/section.js';

/** Section 8: the mask of the layer that is shown, as the screen of a resin machine gets it. */
export default class LayersController extends SectionController {
  on = false;

  constructor(page) {
    super(page);
    this.mask = new MaskView(/** @type {HTMLCanvasElement} */ (the('#mask')), (words) => { the('#mask-words').textContent = words; });
    // The same file again, mended meanwhile, is a change too.
    document.body.addEventListener('htmx:after:request', () => {
      const file = /** @type {HTMLInputElement | null} */ (find('#read-table'));
      if (file?.value) file.value = '';
    });
    new ResizeObserver(() => this.on && this.mask.draw()).observe(the('#mask'));
  }

  update() {
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
  }

  /** @param {number | null} index */
  layerMoved(index) {
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
    if (button.id !== 'show-mask') return false;
    this.on = !this.on;
    if (this.on && this.page.profile.index === null) this.page.profile.set(0);
    this.update();
    return true;
  }

  escape() {
    if (!this.on) return;
    this.on = false;
    this.update();
  }
}
