/** A share (0 to 1) in words: `20 %`, `0.246 %`. */
export const percent = (share: number): string => `${Number((share * 100).toPrecision(3))} %`;
