// Before the first paint: the theme that was chosen, or the system's.
const chosen = localStorage.getItem('theme');
document.documentElement.dataset.theme =
  chosen ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light');
