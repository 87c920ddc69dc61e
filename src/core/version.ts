/** Of this program, as everything says it that does. */
export const version = '0.1.0';
