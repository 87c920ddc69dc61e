export const percent = (share: number): string => `${Number((share * 100).toPrecision(3))} %`;
