/**
 * Machines at work: drawn anew whenever the server says that something has changed, but never under a hand that
 * types or presses there.
 */
const main = /** @type {HTMLElement} */ (document.querySelector('main.floor'));
const cards = /** @type {HTMLElement} */ (document.querySelector('#floor'));
let pressed = false;
let late = false;

function refresh() {
  const typed = [...cards.querySelectorAll('input')].some((one) => one.value !== one.defaultValue || one === document.activeElement);
  late = typed || pressed;
  if (!late) htmx.ajax('GET', main.dataset.cards ?? '', { target: '#floor', source: '#floor' });
}

/** Draw what came meanwhile, once whatever was pressed has been sent. */
const soon = () => { if (late) setTimeout(refresh, 200); };

new EventSource(main.dataset.events ?? '').addEventListener('message', refresh);
cards.addEventListener('focusout', soon);
document.addEventListener('pointerdown', () => { pressed = true; }, { capture: true });
for (const kind of ['pointerup', 'pointercancel']) {
  document.addEventListener(kind, () => {
    pressed = false;
    soon();
  }, { capture: true });
}
