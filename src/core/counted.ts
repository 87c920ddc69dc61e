/** `1 package`, `2 packages`. @param many default: `one` with an s */
export const counted = (count: number, one: string, many = `${one}s`): string => `${count} ${count === 1 ? one : many}`;
