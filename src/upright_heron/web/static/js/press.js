/** What can be pressed. */
const PRESSED = 'button, a[href], summary, input[type=checkbox], input[type=radio]';

/** @param {Element} element  @returns {string}  what makes it the same to whoever presses it */
function like(element) {
  const own = ['id', 'name', 'value', 'type', 'href', 'hx-get', 'hx-post', 'hx-vals'];
  // What has an id may say another figure by now, as the lines of sections do.
  const words = element.id ? '' : element.textContent?.trim();
  return JSON.stringify([element.tagName, ...own.map((name) => element.getAttribute(name)), words]);
}

/**
 * Keep a press although a new sheet comes between the pointer going down and up: the browser then tells
 * no click of the button, for the one that went down is gone, and the press would be lost without a word.
 */
export function keepPresses() {
  /** @type {Element | null} */
  let down = null;
  document.addEventListener('pointerdown', (e) => {
    down = e.button === 0 && e.target instanceof Element ? e.target.closest(PRESSED) : null;
  }, { capture: true });
  document.addEventListener('pointerup', (e) => {
    const was = down;
    down = null;
    if (!was || was.isConnected) return;
    const under = document.elementFromPoint(e.clientX, e.clientY)?.closest(PRESSED);
    // Only what is under the pointer: a button that has moved away was not let go on.
    if (under instanceof HTMLElement && like(under) === like(was)) setTimeout(() => under.isConnected && under.click());
  }, { capture: true });
}
