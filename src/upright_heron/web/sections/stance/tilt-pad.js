/** How far a part leans when the knob is at the rim of the disc, degrees. */
const RIM = 60;

/**
 * A pad to turn the part by hand: dragging in the disc leans it that way as seen from above, dragging along the ring swings it
 * about the vertical. It tells every move, and the end of it.
 */
export class TiltPad {
  /**
   * @param {(turn: {lean: number, towards: number, swing: number}) => void} turned  degrees, from where the part stood
   * @param {() => void} done  the hand has let go
   */
  constructor(turned, done) {
    this.turned = turned;
    this.done = done;
    document.addEventListener('pointerdown', (e) => this.#start(e));
    document.addEventListener('pointermove', (e) => this.#move(e));
    document.addEventListener('pointerup', () => this.#end());
    document.addEventListener('keydown', (e) => this.#key(e));
  }

  #start(event) {
    const pad = event.target.closest?.('#tilt-pad');
    if (!pad) return;
    event.preventDefault();
    pad.focus({ preventScroll: true });
    const box = pad.getBoundingClientRect();
    this.middle = [box.left + box.width / 2, box.top + box.height / 2];
    this.rim = box.width * 0.36;
    const [x, y] = this.#at(event);
    this.ring = Math.hypot(x, y) > this.rim * 1.06;
    this.from = [x, y];
    this.active = true;
    this.moved = false;
  }

  #at(event) {
    return [event.clientX - this.middle[0], this.middle[1] - event.clientY];
  }

  #move(event) {
    if (!this.active) return;
    const [x, y] = this.#at(event);
    this.moved = true;
    if (this.ring) {
      const swing = ((Math.atan2(y, x) - Math.atan2(this.from[1], this.from[0])) * 180) / Math.PI;
      this.#tell(0, 0, Math.round(swing));
    } else {
      const lock = /** @type {HTMLSelectElement | null} */ (document.querySelector('#tilt-lock'))?.value ?? '';
      const dx = lock === 'y' ? 0 : x - this.from[0];
      const dy = lock === 'x' ? 0 : y - this.from[1];
      const lean = Math.min(90, Math.round((Math.hypot(dx, dy) / this.rim) * RIM));
      this.#tell(lean, Math.round((Math.atan2(dy, dx) * 180) / Math.PI), 0);
    }
  }

  /** Arrow keys lean by a degree, with Shift by ten. */
  #key(event) {
    if (event.target.id !== 'tilt-pad') return;
    const towards = { ArrowRight: 0, ArrowUp: 90, ArrowLeft: 180, ArrowDown: -90 }[event.key];
    if (towards === undefined) return;
    event.preventDefault();
    this.#tell(event.shiftKey ? 10 : 1, towards, 0);
    this.done();
  }

  #tell(lean, towards, swing) {
    const out = document.querySelector('#tilt-out');
    if (out) out.textContent = swing ? `swing ${swing}°` : `lean ${lean}°`;
    const knob = document.querySelector('#tilt-knob');
    if (knob) {
      const r = (lean / RIM) * 36;
      knob.setAttribute('cx', String(50 + r * Math.cos((towards * Math.PI) / 180)));
      knob.setAttribute('cy', String(50 - r * Math.sin((towards * Math.PI) / 180)));
    }
    this.turned({ lean, towards, swing });
  }

  #end() {
    if (!this.active) return;
    this.active = false;
    if (this.moved) this.done();
  }
}
