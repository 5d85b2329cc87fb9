/**
 * Where a page is narrow a row of a table stands as one paragraph: each cell is told by the heading of its column, which is written
 * beside it here. Tables of which only a part is drawn (`role="grid"`) keep their columns.
 */
function label(table: HTMLTableElement): void {
  const words = [...(table.tHead?.rows[0]?.cells ?? [])].map((th) => th.textContent.trim());
  for (const body of table.tBodies)
    for (const row of body.rows) {
      // A cell that spans several says what it is by itself, and so does the first.
      const plain = row.cells.length === words.length;
      for (const [i, cell] of [...row.cells].entries()) {
        const word = plain && i > 0 ? words[i]! : '';
        if ((cell.dataset['label'] ?? '') !== word) cell.dataset['label'] = word;
        const nothing = String(/^[–\s]*$/.test(cell.textContent) && cell.querySelector('svg, button, input') === null);
        if (cell.dataset['nothing'] !== nothing) cell.dataset['nothing'] = nothing;
      }
    }
}

/** Keeps the tables under a node labelled, as long as the page is narrow. */
export function labelled(node: HTMLElement): { destroy: () => void } {
  const narrow = matchMedia('(max-width: 40rem)');
  let asked = 0;
  const all = (): void => {
    asked = 0;
    if (narrow.matches) for (const table of node.querySelectorAll<HTMLTableElement>('table.list:not([role])')) label(table);
  };
  const soon = (): void => void (asked ||= requestAnimationFrame(all));
  const watch = new MutationObserver(soon);
  watch.observe(node, { childList: true, subtree: true, characterData: true });
  narrow.addEventListener('change', soon);
  soon();
  return {
    destroy: () => {
      watch.disconnect();
      narrow.removeEventListener('change', soon);
      cancelAnimationFrame(asked);
    },
  };
}
