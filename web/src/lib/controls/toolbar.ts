/** A row of buttons as one Tab stop: arrows walk in it, Tab leaves it. */

const reachable = (element: HTMLElement): HTMLButtonElement[] =>
  [...element.querySelectorAll<HTMLButtonElement>('button:not(:disabled)')].filter(
    (button) => !button.closest('dialog'),
  );

export function toolbar(element: HTMLElement): () => void {
  let at: HTMLButtonElement | null = null;
  function settle(): void {
    const all = reachable(element);
    const stop = at && all.includes(at) ? at : all[0];
    for (const button of all) {
      const index = button === stop ? 0 : -1;
      if (button.tabIndex !== index) button.tabIndex = index;
    }
  }
  function come(event: FocusEvent): void {
    if (event.target instanceof HTMLButtonElement) at = event.target;
    settle();
  }
  function walk(event: KeyboardEvent): void {
    if (event.altKey || event.ctrlKey || event.shiftKey || !(event.target instanceof HTMLButtonElement))
      return;
    const all = reachable(element);
    const place = all.indexOf(event.target);
    const next = { ArrowRight: place + 1, ArrowLeft: place - 1, Home: 0, End: all.length - 1 }[event.key];
    if (next === undefined || place < 0) return;
    event.preventDefault();
    event.stopPropagation();
    all[Math.min(Math.max(next, 0), all.length - 1)]!.focus();
  }
  settle();
  element.addEventListener('focusin', come);
  element.addEventListener('keydown', walk);
  const watch = new MutationObserver(settle);
  watch.observe(element, { childList: true, subtree: true, attributes: true, attributeFilter: ['disabled'] });
  return () => {
    watch.disconnect();
    element.removeEventListener('focusin', come);
    element.removeEventListener('keydown', walk);
  };
}
