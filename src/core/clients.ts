/** What a person calls a program, as far as its own words (the header `user-agent`) tell; else those words. */
export function clientText(client: string): string {
  const name = ['Firefox', 'Edg', 'Chrome', 'Safari'].find((one) => client.includes(`${one}/`));
  const system = /\((?:X11; )?([^;)]+)[;)]/.exec(client)?.[1]?.replace(/ (x86_64|aarch64)$/, '');
  if (!name) return client || 'unknown';
  return `${name === 'Edg' ? 'Edge' : name}${system ? ` on ${system}` : ''}`;
}
