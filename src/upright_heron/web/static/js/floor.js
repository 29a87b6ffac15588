/**
 * Machines at work: drawn anew whenever the server says that something has changed, but never under a hand that
 * types or presses there.
 */
const main = /** @type {HTMLElement} */ (document.querySelector('main.floor'));
const cards = /** @type {HTMLElement} */ (document.querySelector('#floor'));
let pressed = false;
let late = false;

function refresh() {
  const fields = /** @type {HTMLInputElement[]} */ ([...cards.querySelectorAll('input, select')]);
  const chosen = [...cards.querySelectorAll('select')].some((one) => one.selectedIndex > 0);
  late = pressed || chosen || fields.some((one) => one === document.activeElement || (one.defaultValue ?? one.value) !== one.value);
  if (!late) htmx.ajax('GET', main.dataset.cards ?? '', { target: '#floor', source: '#floor' });
}

/** Draw what came meanwhile, once whatever was pressed has been sent. */
const soon = () => { if (late) setTimeout(refresh, 200); };

/** What is unfolded stays so: the server does not know of it. @type {string[]} */
let unfolded = [];
document.body.addEventListener('htmx:before:swap', () => {
  unfolded = [...cards.querySelectorAll('details[open]')].map((one) => one.id);
});
document.body.addEventListener('htmx:after:swap', () => {
  for (const id of unfolded) document.getElementById(id)?.setAttribute('open', '');
});
new EventSource(main.dataset.events ?? '').addEventListener('message', refresh);
cards.addEventListener('focusout', soon);
document.addEventListener('pointerdown', () => { pressed = true; }, { capture: true });
for (const kind of ['pointerup', 'pointercancel']) {
  document.addEventListener(kind, () => {
    pressed = false;
    soon();
  }, { capture: true });
}
