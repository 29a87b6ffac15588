const BLACK = '#10181c', WHITE = [236, 243, 246], PLUM = [198, 120, 226], ISLAND = '#ff4f9a', GREY = '#9fb1ba';

/** The mask of a layer over the view, as the screen of the machine shows it: what is new since below in plum. */
export class MaskView {
  /** @param {HTMLCanvasElement} canvas @param {(words: string) => void} told */
  constructor(canvas, told) {
    this.canvas = canvas;
    this.told = told;
    /** Layer that is wanted, and what is asked of the server for any. @type {{layer: number, url: (layer: number) => string, islands: number[][]} | null} */
    this.wanted = null;
    this.busy = false;
    /** Pictures of layers by their address. @type {Map<string, Promise<any>>} */
    this.known = new Map();
    this.scale = 0;
    this.middle = [0, 0];
    canvas.addEventListener('wheel', (e) => {
      e.preventDefault();
      const [x, y] = this.at(e.offsetX, e.offsetY);
      this.scale = Math.min(40, Math.max(this.least * 0.8, this.scale * Math.exp(-e.deltaY / 400)));
      const [nx, ny] = this.at(e.offsetX, e.offsetY);
      this.middle = [this.middle[0] + x - nx, this.middle[1] + y - ny];
      this.draw();
    });
    canvas.addEventListener('pointerdown', (e) => {
      canvas.setPointerCapture(e.pointerId);
      this.from = [e.offsetX, e.offsetY];
    });
    canvas.addEventListener('pointermove', (e) => {
      if (!this.from || !this.scale) return;
      this.middle = [this.middle[0] - (e.offsetX - this.from[0]) / this.scale, this.middle[1] - (e.offsetY - this.from[1]) / this.scale];
      this.from = [e.offsetX, e.offsetY];
      this.draw();
    });
    canvas.addEventListener('pointerup', () => { this.from = null; });
  }

  /** Pixel of the picture below a place of the canvas. @param {number} x @param {number} y */
  at(x, y) {
    const { clientWidth: w, clientHeight: h } = this.canvas;
    return [this.middle[0] + (x - w / 2) / this.scale, this.middle[1] + (y - h / 2) / this.scale];
  }

  /** Scale at which all of the picture is seen. */
  get least() {
    const { clientWidth: w, clientHeight: h } = this.canvas;
    return this.shown ? Math.min((w - 40) / this.shown.width, (h - 120) / this.shown.height) : 1;
  }

  /**
   * Show a layer; while one is fetched only the last that was asked for waits.
   * @param {{layer: number, url: (layer: number) => string, islands: number[][]} | null} wanted
   */
  async show(wanted) {
    this.wanted = wanted;
    if (this.busy) return;
    this.busy = true;
    try {
      while (this.wanted) {
        const { layer, url, islands } = this.wanted;
        this.wanted = null;
        if (!this.known.has(url(layer))) this.told('Drawing the mask…');
        const [here, below] = await Promise.all([this.#fetch(url(layer)), layer > 0 ? this.#fetch(url(layer - 1)) : null]);
        this.shown = { ...here, fresh: paint(here, below), layer, islands };
        if (!this.scale) {
          this.scale = this.least;
          this.middle = [here.width / 2, here.height / 2];
        }
        this.draw();
        this.canvas.dataset.layer = String(layer);
        this.told(`layer ${layer + 1} · ${here.width} × ${here.height} pixels of ${here.screen.join(' × ')}, ${here.pixel} mm each`);
      }
    } catch (error) {
      this.told(`No mask: ${/** @type {Error} */ (error).message}`);
    } finally {
      this.busy = false;
    }
  }

  /** @param {string} url @returns {Promise<any>} */
  #fetch(url) {
    let found = this.known.get(url);
    if (!found) {
      found = fetched(url);
      found.catch(() => this.known.delete(url));
      this.known.set(url, found);
      if (this.known.size > 12) this.known.delete(this.known.keys().next().value ?? '');
    }
    return found;
  }

  /** Forget pictures: something was changed. */
  forget() {
    this.known.clear();
    this.scale = 0;
  }

  draw() {
    const { canvas, shown } = this;
    const ratio = Math.min(window.devicePixelRatio, 2);
    const { clientWidth: w, clientHeight: h } = canvas;
    canvas.width = w * ratio;
    canvas.height = h * ratio;
    const c = /** @type {CanvasRenderingContext2D} */ (canvas.getContext('2d'));
    c.scale(ratio, ratio);
    c.fillStyle = BLACK;
    c.fillRect(0, 0, w, h);
    if (!shown) return;
    c.imageSmoothingEnabled = this.scale < 1;
    const left = w / 2 - this.middle[0] * this.scale, top = h / 2 - this.middle[1] * this.scale;
    c.drawImage(shown.fresh, left, top, shown.width * this.scale, shown.height * this.scale);
    c.strokeStyle = GREY;
    c.lineWidth = 0.5;
    c.strokeRect(left, top, shown.width * this.scale, shown.height * this.scale);
    c.strokeStyle = ISLAND;
    c.lineWidth = 2;
    for (const [x, y] of shown.islands) {
      // From millimetres on the plate to the picture, whose first row is the one at the back.
      const px = x / shown.pixel - shown.left, py = shown.height - (y / shown.pixel - shown.bottom);
      c.beginPath();
      c.arc(left + px * this.scale, top + py * this.scale, 10, 0, 7);
      c.stroke();
    }
  }
}

/** @param {string} url */
async function fetched(url) {
  const answer = await fetch(url, { headers: { Accept: 'application/json, image/png' } });
  if (!answer.ok) throw new Error((await answer.json().catch(() => ({}))).error?.message ?? `the server says ${answer.status}`);
  const [left, bottom, width, height] = (answer.headers.get('X-Window') ?? '').split(',').map(Number);
  const pixel = Number(answer.headers.get('X-Pixel'));
  const [x0, y0] = (answer.headers.get('X-Corner') ?? '').split(',').map(Number);
  const screen = (answer.headers.get('X-Screen') ?? '').split(',');
  const bitmap = await createImageBitmap(await answer.blob());
  const canvas = new OffscreenCanvas(width, height);
  const c = /** @type {OffscreenCanvasRenderingContext2D} */ (canvas.getContext('2d', { willReadFrequently: true }));
  c.drawImage(bitmap, 0, 0);
  const { data } = c.getImageData(0, 0, width, height);
  const grey = new Uint8Array(width * height);
  for (let i = 0; i < grey.length; i++) grey[i] = data[4 * i];
  return { left: left + x0 / pixel, bottom: bottom + y0 / pixel, width, height, pixel, screen, grey };
}

/** A picture of a mask: its greys, and what is lighter than below in plum. */
function paint(here, below) {
  const canvas = new OffscreenCanvas(here.width, here.height);
  const c = /** @type {OffscreenCanvasRenderingContext2D} */ (canvas.getContext('2d', { willReadFrequently: true }));
  const image = c.createImageData(here.width, here.height);
  const same = below && below.width === here.width && below.height === here.height;
  for (let i = 0; i < here.grey.length; i++) {
    const light = here.grey[i] / 255;
    const colour = same && here.grey[i] > below.grey[i] + 64 ? PLUM : WHITE;
    for (let k = 0; k < 3; k++) image.data[4 * i + k] = 16 + (colour[k] - 16) * light;
    image.data[4 * i + 3] = 255;
  }
  c.putImageData(image, 0, 0);
  return canvas;
}
