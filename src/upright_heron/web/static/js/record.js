/** A photo goes as soon as it is picked, or dropped on the line of its print. */
document.addEventListener('change', (e) => {
  const input = /** @type {HTMLInputElement} */ (e.target);
  if (input.type === 'file' && input.files?.length) input.form?.requestSubmit();
});
document.addEventListener('dragover', (e) => {
  if (rowOf(e)) e.preventDefault();
});
document.addEventListener('drop', (e) => {
  const input = /** @type {HTMLInputElement | null | undefined} */ (rowOf(e)?.querySelector('input[type=file]'));
  if (!input || !e.dataTransfer?.files.length) return;
  e.preventDefault();
  input.files = e.dataTransfer.files;
  input.form?.requestSubmit();
});

/** @param {DragEvent} event @returns {Element | null} */
function rowOf(event) {
  return event.target instanceof Element ? event.target.closest('#prints tbody tr') : null;
}
