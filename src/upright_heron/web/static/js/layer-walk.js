const $ = (selector) => document.querySelector(selector);

/** Walking the layers by other means than the profile itself: typed layers and heights, play, the next finding. */
export class LayerWalk {
  /**
   * @param {import('./profile.js').HeightProfile} profile
   * @param {(z: number) => void} onward  told the height from which the next finding is asked for
   */
  constructor(profile, onward) {
    this.profile = profile;
    /** @type {number} */
    this.timer = 0;
    $('#layer-number').addEventListener('change', (e) => profile.set(Number(e.target.value) - 1));
    $('#layer-z').addEventListener('change', (e) => {
      const z = Number(e.target.value);
      if (Number.isFinite(z)) profile.goTo(Math.max(0, z - 1e-6));
    });
    $('#play').addEventListener('click', () => this.play(!this.timer));
    $('#play-speed').addEventListener('change', () => { if (this.timer) this.play(true); });
    $('#next-finding').addEventListener('click', () => {
      this.play(false);
      onward(profile.index === null ? -1 : profile.levels[profile.index].z);
    });
    profile.canvas.addEventListener('pointerdown', () => this.play(false));
  }

  /** Run up through the layers from where it is, or stop. @param {boolean} on */
  play(on) {
    clearInterval(this.timer);
    this.timer = 0;
    const { profile } = this;
    if (on && profile.levels.length) {
      if (profile.index === null) profile.set(0);
      const perSecond = Number($('#play-speed').value);
      // Faster than the eye follows, several layers go by at once.
      const [every, by] = perSecond > 30 ? [1000 / 30, Math.round(perSecond / 30)] : [1000 / perSecond, 1];
      this.timer = setInterval(() => {
        profile.step(by);
        if (profile.index === null) this.play(false);
      }, every);
    }
    $('#play').textContent = this.timer ? 'Stop' : 'Play';
    $('#play').setAttribute('aria-pressed', String(Boolean(this.timer)));
  }

  /** Show where the profile is. @param {number | null} index */
  moved(index) {
    const { levels } = this.profile;
    const at = index ?? levels.length - 1;
    for (const [id, value] of [['layer-number', String(at + 1)], ['layer-z', levels[at] ? levels[at].z.toFixed(2) : '']]) {
      const field = document.getElementById(id);
      if (document.activeElement !== field) /** @type {HTMLInputElement} */ (field).value = value;
    }
  }

  /** A new list of layers. */
  follow() {
    const { length } = this.profile.levels;
    $('#layer-of').textContent = length ? `of ${length}` : '';
    $('#layer-number').max = String(length);
  }
}
