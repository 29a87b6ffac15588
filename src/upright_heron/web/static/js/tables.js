// Tables that are sorted by a press on a head, and rows that a choice leaves out.

/** Value of a cell: a number where it is one. @param {HTMLTableRowElement} row @param {number} column */
function valueOf(row, column) {
  const text = row.cells[column]?.dataset.sort ?? '';
  const number = Number(text);
  return text !== '' && Number.isFinite(number) ? number : text;
}

/**
 * Sort the rows of a table; rows that are alike stay as they lie.
 * @param {HTMLTableElement} table
 * @param {number} column
 * @param {boolean} down
 */
export function sortRows(table, column, down) {
  const body = table.tBodies[0];
  const rows = [...body.rows];
  const keyed = rows.map((row, at) => ({ row, at, key: valueOf(row, column) }));
  keyed.sort((a, b) => {
    const numbers = typeof a.key === 'number' && typeof b.key === 'number';
    const order = numbers ? Number(a.key) - Number(b.key) : String(a.key).localeCompare(String(b.key));
    return (down ? -order : order) || a.at - b.at;
  });
  body.append(...keyed.map(({ row }) => row));
  [...table.tHead.rows[0].cells].forEach((head, at) => {
    if (head.hasAttribute('aria-sort')) head.setAttribute('aria-sort', at !== column ? 'none' : down ? 'descending' : 'ascending');
  });
}

/**
 * Show only the rows of a state. Those that are left out are not ticked any more: what is done goes to what is seen.
 * @param {HTMLTableElement} table
 * @param {string} state  empty for all
 */
export function showState(table, state) {
  for (const row of table.tBodies[0].rows) {
    row.hidden = state !== '' && row.dataset.state !== state;
    const tick = row.querySelector('input[type=checkbox]');
    if (row.hidden && tick instanceof HTMLInputElement) tick.checked = false;
  }
}
