/** Which theme the page has: for what is drawn, not styled. */
import { useSyncExternalStore } from 'react';

const themeNow = (): string => document.documentElement.dataset.theme ?? 'light';

function watch(changed: () => void): () => void {
  const observer = new MutationObserver(changed);
  observer.observe(document.documentElement, { attributes: true, attributeFilter: ['data-theme'] });
  return () => observer.disconnect();
}

export const useTheme = (): string => useSyncExternalStore(watch, themeNow);
