/** Taking parts in: by drop or by the file picker, each file for itself, one bad file stops no other. */
class Uploads {
  constructor() {
    this.list = document.querySelector('#uploads');
    this.limit = Number(document.querySelector('#yard').dataset.uploadMb) * 1e6;
    const veil = document.querySelector('#drop-veil');
    let depth = 0;
    const files = (event) => [...(event.dataTransfer?.types ?? [])].includes('Files');
    document.addEventListener('dragenter', (e) => { if (files(e)) { depth += 1; veil.hidden = false; } });
    document.addEventListener('dragleave', (e) => { if (files(e)) { depth -= 1; veil.hidden = depth > 0 ? false : true; } });
    document.addEventListener('dragover', (e) => e.preventDefault());
    document.addEventListener('drop', (e) => {
      e.preventDefault();
      depth = 0;
      veil.hidden = true;
      this.take([...e.dataTransfer.files]);
    });
    const input = document.querySelector('#files');
    input.addEventListener('change', () => {
      this.take([...input.files]);
      input.value = '';
    });
  }

  /** @param {File[]} files */
  async take(files) {
    const answers = await Promise.all(files.map((file) => this.#upload(file)));
    const made = answers.filter(Boolean);
    if (files.length === 1 && made.length === 1) window.location.href = made[0].url;
  }

  /**
   * Send one file and show how it goes.
   * @param {File} file
   * @returns {Promise<{url: string} | null>}
   */
  async #upload(file) {
    const row = document.createElement('li');
    row.className = 'upload';
    const what = document.createElement('span');
    what.className = 'what break';
    what.textContent = `${file.name}: sending…`;
    const bar = document.createElement('progress');
    bar.max = 100;
    row.append(what, bar);
    this.list.append(row);
    const done = (text, state) => {
      what.textContent = `${file.name}: ${text}`;
      row.classList.add(state);
      bar.remove();
    };
    if (file.size > this.limit) {
      done(`larger than ${this.limit / 1e6} MB, which is the limit of this server. Export it with fewer facets.`, 'failed');
      return null;
    }
    try {
      const { status, answer } = await send(file, (share) => {
        bar.value = 100 * share;
        if (share >= 1) {
          what.textContent = `${file.name}: reading…`;
          bar.removeAttribute('value');
        }
      });
      if (status !== 201) {
        done([answer.error?.message, answer.error?.advice].filter(Boolean).join(' ') || `refused (${status}).`, 'failed');
        return null;
      }
      done('taken in. ', 'done');
      const link = document.createElement('a');
      link.href = answer.url;
      link.className = 'button small';
      link.textContent = 'Open the job';
      row.append(link);
      return answer;
    } catch {
      done('the connection broke. Nothing was taken in; try again.', 'failed');
      return null;
    }
  }
}

/** @param {File} file @param {(share: number) => void} progress */
function send(file, progress) {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    const tolerance = document.querySelector('#step-tolerance').value;
    request.open('POST', `/api/jobs?name=${encodeURIComponent(file.name)}&tolerance=${encodeURIComponent(tolerance)}`);
    request.responseType = 'json';
    request.upload.onprogress = (e) => progress(e.loaded / Math.max(e.total, 1));
    request.onload = () => resolve({ status: request.status, answer: request.response ?? {} });
    request.onerror = () => reject(new Error('Uploads: the connection broke'));
    request.send(file);
  });
}

/** Finding jobs again: words narrow the cards, a choice orders them; both stay when the cards are drawn anew. */
class Shelf {
  constructor() {
    this.search = document.querySelector('#search');
    this.sort = document.querySelector('#sort');
    this.search.addEventListener('input', () => this.#apply());
    this.sort.addEventListener('change', () => this.#apply());
    document.body.addEventListener('htmx:after:swap', () => this.#apply());
  }

  #apply() {
    const list = document.querySelector('#jobs');
    if (!list) return;
    const words = this.search.value.toLowerCase().split(/\s+/).filter(Boolean);
    const cards = [...list.children];
    let shown = 0;
    for (const card of cards) {
      card.hidden = !words.every((word) => card.dataset.name.includes(word));
      shown += card.hidden ? 0 : 1;
    }
    document.querySelector('#none-found').hidden = shown > 0;
    const by = this.sort.value;
    const order = (a, b) => (by === 'title' ? a.dataset.title.localeCompare(b.dataset.title) : Number(a.dataset[by]) - Number(b.dataset[by]));
    list.append(...cards.sort(order));
  }
}

window.heronUploads = new Uploads();
window.heronShelf = new Shelf();
