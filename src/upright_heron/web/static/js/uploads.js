/** Taking parts in: by drop or by the file picker, each file for itself, one bad file stops no other. */
export class Uploads {
  /**
   * @param {string | null} job  where files become parts; without it they become jobs, or one, as is asked
   * @param {number} limit  bytes a file
   * @param {(item: string) => void} [after]  called with the first new item when all are taken in
   */
  constructor(job, limit, after) {
    this.job = job;
    this.limit = limit;
    this.after = after;
    this.list = /** @type {HTMLElement} */ (document.querySelector('#uploads'));
    const veil = /** @type {HTMLElement} */ (document.querySelector('#drop-veil'));
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
    document.addEventListener('change', (e) => {
      const input = /** @type {HTMLInputElement} */ (e.target);
      if (!input.matches('#files, #more-files')) return;
      const chosen = [...input.files];
      input.value = '';
      this.take(chosen);
    });
  }

  /** @param {File[]} files */
  async take(files) {
    if (!files.length) return;
    if (this.job) await this.#together(files, `/api/jobs/${this.job}/items`);
    else if (files.length > 1) this.#ask(files);
    else await this.#apart(files);
  }

  /** Ask once what several files are to become. @param {File[]} files */
  #ask(files) {
    document.querySelector('#choice')?.remove();
    const slip = document.createElement('div');
    slip.className = 'choice';
    slip.id = 'choice';
    slip.setAttribute('role', 'group');
    const what = document.createElement('span');
    what.textContent = `${files.length} files: ${files.map((f) => f.name).join(', ').slice(0, 160)}`;
    slip.append(what);
    /** @type {[string, string, () => unknown][]} */
    const answers = [
      ['one-job', `One job of ${files.length} parts`, () => this.#together(files, '/api/jobs')],
      ['jobs-each', 'A job each', () => this.#apart(files)],
      ['leave', 'Leave', () => {}],
    ];
    for (const [id, text, act] of answers) {
      const button = document.createElement('button');
      button.type = 'button';
      button.id = id;
      button.className = id === 'one-job' ? 'button primary' : 'button';
      button.textContent = text;
      button.addEventListener('click', () => { slip.remove(); act(); });
      slip.append(button);
    }
    this.list.before(slip);
    slip.querySelector('button').focus();
  }

  /** A job for each. @param {File[]} files */
  async #apart(files) {
    const made = (await Promise.all(files.map((file) => this.#upload(file, '/api/jobs')))).filter(Boolean);
    if (files.length === 1 && made.length === 1) window.location.href = made[0].url;
  }

  /** All into one job, in their order; the first that can be read begins it. @param {File[]} files @param {string} where */
  async #together(files, where) {
    let job = null;
    let first = '';
    let failed = 0;
    for (const file of files) {
      const made = await this.#upload(file, job ? `/api/jobs/${job.id}/items` : where, this.job ? 0 : files.length - 1);
      job = made ?? job;
      // The first of the new ones is looked at.
      if (made && !first) first = made.sheet.items.at(-1).id;
      failed += made ? 0 : 1;
    }
    if (!job) return;
    if (this.job) this.after?.(first);
    else if (!failed) window.location.href = job.url;
  }

  /**
   * Send one file and show how it goes.
   * @param {File} file @param {string} where @param {number} [more]  how many parts will join it
   * @returns {Promise<{id: string, url: string, sheet: {items: {id: string}[]}} | null>}
   */
  async #upload(file, where, more = 0) {
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
      if (state !== 'failed') return;
      const close = document.createElement('button');
      close.type = 'button';
      close.className = 'button small';
      close.textContent = 'Close';
      close.addEventListener('click', () => row.remove());
      row.append(close);
    };
    if (file.size > this.limit) {
      done(`larger than ${this.limit / 1e6} MB, which is the limit of this server. Export it with fewer facets.`, 'failed');
      return null;
    }
    try {
      const { status, answer } = await send(file, `${where}?more=${more}`, (share) => {
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
      if (this.job) {
        row.remove();
        return answer;
      }
      const link = document.createElement('a');
      link.href = answer.url;
      link.className = 'button small';
      link.textContent = answer.jobs ? 'Open the Yard' : 'Open the job';
      row.append(link);
      return answer;
    } catch {
      done('the connection broke. Nothing was taken in; try again.', 'failed');
      return null;
    }
  }
}

/** @param {File} file @param {string} where @param {(share: number) => void} progress */
function send(file, where, progress) {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    const tolerance = /** @type {HTMLInputElement | null} */ (document.querySelector('#step-tolerance'))?.value ?? '0.1';
    const machine = ['printer', 'material', 'folder'].map((what) => {
      const choice = /** @type {HTMLInputElement | null} */ (document.querySelector(`#for-${what}`));
      return choice?.value ? `&${what}=${encodeURIComponent(choice.value)}` : '';
    }).join('');
    request.open('POST', `${where}${machine}&name=${encodeURIComponent(file.name)}&tolerance=${encodeURIComponent(tolerance)}`);
    request.responseType = 'json';
    request.upload.onprogress = (e) => progress(e.loaded / Math.max(e.total, 1));
    request.onload = () => resolve({ status: request.status, answer: request.response ?? {} });
    request.onerror = () => reject(new Error('Uploads: the connection broke'));
    request.send(file);
  });
}
