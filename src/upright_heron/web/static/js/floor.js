/** Machines at work: drawn anew whenever the server says that something has changed, unless somebody types there. */
const main = /** @type {HTMLElement} */ (document.querySelector('main.floor'));
const cards = /** @type {HTMLElement} */ (document.querySelector('#floor'));
let late = false;

function refresh() {
  late = cards.contains(document.activeElement) && document.activeElement instanceof HTMLInputElement;
  if (!late) htmx.ajax('GET', main.dataset.cards ?? '', { target: '#floor' });
}

new EventSource(main.dataset.events ?? '').addEventListener('message', refresh);
cards.addEventListener('focusout', () => { if (late) setTimeout(refresh); });
