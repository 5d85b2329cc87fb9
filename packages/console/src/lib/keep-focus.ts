/** What can be reached by the keyboard. */
const reachable =
  'a[href], button:not([disabled]), input:not([disabled]), select:not([disabled]), textarea:not([disabled]), [tabindex="0"]';

/**
 * Keeps the keyboard's place: what had the focus and is gone hands it to its nearest neighbour that is left, or else to the
 * heading of the page. A dialog that was closed hands it back to where it was before.
 */
export function keepFocus(main: () => HTMLElement | null): () => void {
  /** Of what had the focus last, itself and all around it; and the same from before a dialog. */
  let trail: readonly Element[] = [];
  let before: readonly Element[] = [];
  const around = (element: Element): Element[] => {
    const list: Element[] = [];
    for (let at: Element | null = element; at && at !== document.body; at = at.parentElement) list.push(at);
    return list;
  };
  const taken = (event: FocusEvent): void => {
    const element = event.target as Element;
    const inDialog = element.closest('[role="dialog"]') !== null;
    if (inDialog && !trail[0]?.closest('[role="dialog"]')) before = trail;
    trail = around(element);
  };
  const left = (): void =>
    void requestAnimationFrame(() => {
      if (document.activeElement !== document.body || trail.length === 0 || trail[0]!.isConnected) return;
      for (const list of [trail, before])
        for (const element of list) {
          if (!element.isConnected) continue;
          if (element === main()) break;
          const next = element.matches(reachable) ? element : element.querySelector(reachable);
          if (next instanceof HTMLElement) return next.focus();
        }
      focusHeading(main());
    });
  document.addEventListener('focusin', taken);
  document.addEventListener('focusout', left);
  // An element that is taken away while it has the focus says nothing.
  const watch = new MutationObserver(() => {
    if (document.activeElement === document.body) left();
  });
  watch.observe(document.body, { childList: true, subtree: true });
  return () => {
    document.removeEventListener('focusin', taken);
    document.removeEventListener('focusout', left);
    watch.disconnect();
  };
}

/** To the heading of the page, from where everything on it is read on; as soon as it is there. */
export function focusHeading(main: HTMLElement | null): void {
  if (!main) return;
  const focus = (): boolean => {
    const heading = main.querySelector('h1');
    if (!heading) return false;
    if (!heading.hasAttribute('tabindex')) heading.setAttribute('tabindex', '-1');
    heading.focus({ preventScroll: true });
    return true;
  };
  if (focus()) return;
  main.focus({ preventScroll: true });
  const watch = new MutationObserver(() => {
    // Whoever went elsewhere meanwhile stays there.
    if (document.activeElement !== main || focus()) watch.disconnect();
  });
  watch.observe(main, { childList: true, subtree: true });
}

/** What scrolls and holds nothing that the keyboard could reach is reached itself. */
export function keepScrolling(main: HTMLElement): () => void {
  let asked = 0;
  const look = (): void => {
    asked = 0;
    for (const element of main.querySelectorAll<HTMLElement>('.sheet, section')) {
      const scrolls = element.scrollWidth > element.clientWidth + 1 || element.scrollHeight > element.clientHeight + 1;
      const needs = scrolls && !element.querySelector(reachable) && getComputedStyle(element).overflow !== 'visible';
      if (needs) element.tabIndex = 0;
      else if (element.tabIndex === 0) element.removeAttribute('tabindex');
    }
  };
  const soon = (): void => void (asked ||= requestAnimationFrame(look));
  soon();
  const [watch, sized] = [new MutationObserver(soon), new ResizeObserver(soon)];
  watch.observe(main, { childList: true, subtree: true });
  sized.observe(main);
  return () => {
    watch.disconnect();
    sized.disconnect();
    cancelAnimationFrame(asked);
  };
}

/** Names the window after the heading of the page, whatever page it is and whenever that is known. */
export function keepTitle(main: HTMLElement): () => void {
  const name = (): void => {
    const heading = main.querySelector('h1')?.textContent.trim();
    const title = heading ? `${heading} · Barrow` : 'Barrow';
    if (document.title !== title) document.title = title;
  };
  name();
  const watch = new MutationObserver(name);
  watch.observe(main, { childList: true, subtree: true, characterData: true });
  return () => watch.disconnect();
}
