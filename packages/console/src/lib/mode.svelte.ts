const key = 'barrow-mode';
const dark = matchMedia('(prefers-color-scheme: dark)');

/** Light or dark: as the system says, until a person chooses. */
export const mode = $state<{ now: 'light' | 'dark' }>({
  now: (localStorage.getItem(key) as 'light' | 'dark' | null) ?? (dark.matches ? 'dark' : 'light'),
});

export function applyMode(): void {
  document.documentElement.dataset['mode'] = mode.now;
}

export function switchMode(): void {
  mode.now = mode.now === 'dark' ? 'light' : 'dark';
  localStorage.setItem(key, mode.now);
  applyMode();
}
