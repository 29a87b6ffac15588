/**
 * What this page looks at: its item, and the step that it shows. The server is told with every request, so that
 * changes go to the item that was looked at, and meet those that others made meanwhile.
 */
export const looking = {
  /** Id of the item; empty until the first state has come. */
  item: '',
  /** Number of its copy on the plates. */
  copy: 1,
  /** @type {number | null} */
  step: null,
  /** The copy of the item that is asked for next. @type {number | undefined} */
  next: undefined,
  /** A name for this page, of no meaning. */
  page: Array.from(crypto.getRandomValues(new Uint8Array(8)), (b) => b.toString(16).padStart(2, '0')).join(''),
};

/** Headers that tell what is looked at. @returns {Record<string, string>} */
export function lookingHeaders() {
  /** @type {Record<string, string>} */
  const headers = { 'Heron-Page': looking.page };
  if (looking.item) headers['Heron-Item'] = looking.item;
  if (looking.copy > 1) headers['Heron-Copy'] = String(looking.copy);
  if (looking.step !== null) headers['Heron-Step'] = String(looking.step);
  return headers;
}

/** Follow what the server says is looked at. @param {{item: string, stepId: number}} state */
export function nowLooking(state) {
  if (looking.item !== state.item && looking.item !== '') looking.copy = looking.next ?? 1;
  looking.next = undefined;
  looking.item = state.item;
  looking.step = state.stepId;
}

/** Have the server get ready for what a button is about to ask for; nobody waits for it. @param {HTMLElement} button */
export function getReady(button) {
  if (button.dataset.ready) fetch(button.dataset.ready, { headers: lookingHeaders() }).catch(() => {});
}
