// Values as they are typed; the server has the last word when they are stored.

/** A frequency in Hz from text such as "1.2k" or "80 Hz"; NaN when it is none. @param {string} text */
export function typedHz(text) {
  const found = /^\s*(\d+(?:[.,]\d*)?|[.,]\d+)\s*(k?)\s*(hz)?\s*$/i.exec(text);
  return found ? Number(found[1].replace(",", ".")) * (found[2] ? 1000 : 1) : Number.NaN;
}

/** A number from text with a decimal point or comma; NaN when it is none. @param {string} text */
export const typedNumber = (text) => (text.trim() ? Number(text.trim().replace(",", ".")) : Number.NaN);
