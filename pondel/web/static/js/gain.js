// The gain of a move over frequency: a product of factors, each still or with bands that move.

const FLOOR = 1e-4;

/** @typedef {{trace: string, full_db: number, rest_db: number, curve: number[], from: number, re: number[], im: number[]}} Band */
/** @typedef {{hz: number[], wet: number, factors: {still: ?{re: number[], im: number[]}, bands: Band[]}[]}} Shape */

/** How much of a band's weight is added at a gain. @param {Band} band @param {number} gain_db */
function multiple({ curve, full_db, rest_db }, gain_db) {
  if (!curve.length) return 10 ** (gain_db / 20) - 10 ** (rest_db / 20);
  const at = Math.min(1, Math.max(0, gain_db / full_db)) * (curve.length - 1);
  const below = Math.min(curve.length - 2, Math.floor(at));
  return curve[below] + (curve[below + 1] - curve[below]) * (at - below);
}

/**
 * The gain in dB at each frequency, with every band at the gain in dB that `gain_db(trace)` gives.
 * @param {Shape} shape @param {(trace: string) => number} gain_db @returns {number[]}
 */
export function gainOf(shape, gain_db) {
  const points = shape.hz.length;
  const re = new Float64Array(points).fill(1);
  const im = new Float64Array(points);
  const a = new Float64Array(points);
  const b = new Float64Array(points);
  for (const { still, bands } of shape.factors) {
    if (still) {
      a.set(still.re);
      b.set(still.im);
    } else {
      a.fill(1);
      b.fill(0);
    }
    for (const band of bands) {
      const less = multiple(band, gain_db(band.trace));
      if (less === 0) continue;
      for (let i = 0; i < band.re.length; i++) {
        a[band.from + i] += less * band.re[i];
        b[band.from + i] += less * band.im[i];
      }
    }
    for (let i = 0; i < points; i++) {
      const x = re[i] * a[i] - im[i] * b[i];
      im[i] = re[i] * b[i] + im[i] * a[i];
      re[i] = x;
    }
  }
  const dry = 1 - shape.wet;
  return Array.from(re, (x, i) => 20 * Math.log10(Math.max(FLOOR, Math.hypot(dry + shape.wet * x, shape.wet * im[i]))));
}
