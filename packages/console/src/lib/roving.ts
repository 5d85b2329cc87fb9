/** Whether a key moves within the text of a field, rather than away from it. */
function moves({ target, key }: KeyboardEvent): boolean {
  if (!(target instanceof HTMLInputElement) || target.type === 'checkbox') return false;
  const { selectionStart, selectionEnd, value } = target;
  return key === 'ArrowRight' ? selectionEnd !== value.length : key === 'ArrowLeft' ? selectionStart !== 0 : true;
}

/** Of many buttons in a row one can be reached by Tab, the others from it by the arrows, Home and End. */
export function roving(container: HTMLElement): { destroy: () => void } {
  const all = (): HTMLElement[] => [...container.querySelectorAll<HTMLElement>('button, input')];
  let at = 0;
  const place = (): void =>
    all().forEach((one, i, { length }) => {
      const wanted = i === Math.min(at, length - 1) ? 0 : -1;
      if (one.tabIndex !== wanted) one.tabIndex = wanted;
    });
  const go = (event: KeyboardEvent): void => {
    const list = all();
    const here = list.indexOf(event.target as HTMLElement);
    if (here < 0 || moves(event)) return;
    const next = { ArrowRight: here + 1, ArrowLeft: here - 1, Home: 0, End: list.length - 1 }[event.key];
    if (next === undefined || !list[next]) return;
    event.preventDefault();
    at = next;
    place();
    list[next].focus();
  };
  const taken = (event: FocusEvent): void => {
    const here = all().indexOf(event.target as HTMLElement);
    if (here >= 0) at = here;
    place();
  };
  place();
  container.addEventListener('keydown', go);
  container.addEventListener('focusin', taken);
  const watch = new MutationObserver(place);
  watch.observe(container, { childList: true, subtree: true });
  return {
    destroy: () => {
      container.removeEventListener('keydown', go);
      container.removeEventListener('focusin', taken);
      watch.disconnect();
    },
  };
}
