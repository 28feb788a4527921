// The frequency axis of every picture: its scale and back, its marks, its words. Knows no page.

export const LOWEST_HZ = 20;
export const HIGHEST_HZ = 20000;
export const MARKS_HZ = [20, 30, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000];
const BEND_HZ = 250;
const BENT_SHARE = 0.5;

/** Whether a mark is drawn stronger. @param {number} hz */
export const isStrong = (hz) => [100, 1000, 10000].includes(hz);

/** Whether there is room for a mark's word beside the one at the right end. @param {number} hz @param {(hz: number) => number} x */
export const hasRoom = (hz, x) => hz !== 10000 || x(20000) - x(10000) > 52;

/** A frequency as the trade writes it on an axis. @param {number} hz */
export const axisWord = (hz) => (hz >= 1000 ? `${hz / 1000}k` : String(hz));

/** A frequency in words. @param {number} hz */
export function hzWord(hz) {
  if (hz < 999.5) return `${hz.toFixed(0)} Hz`;
  return `${(hz / 1000).toFixed(hz < 9950 ? 2 : 1)} kHz`;
}

/**
 * Between frequency and a share of the width: logarithmic, or with 20 to 250 Hz over half of it.
 * @param {boolean} spread @returns {{share: (hz: number) => number, hz: (share: number) => number}}
 */
export function frequencyAxis(spread) {
  const low = Math.log(LOWEST_HZ);
  const high = Math.log(HIGHEST_HZ);
  const bend = spread ? Math.log(BEND_HZ) : low;
  const bent = spread ? BENT_SHARE : 0;
  return {
    share(hz) {
      const at = Math.log(hz);
      return at <= bend && spread ? (bent * (at - low)) / (bend - low) : bent + ((1 - bent) * (at - bend)) / (high - bend);
    },
    hz(share) {
      if (share <= bent && spread) return Math.exp(low + (share / bent) * (bend - low));
      return Math.exp(bend + ((share - bent) / (1 - bent)) * (high - bend));
    },
  };
}

/** A frequency within the axis. @param {number} hz */
export const within = (hz) => Math.min(HIGHEST_HZ, Math.max(LOWEST_HZ, hz));

/** The index of the frequency nearest to one, in octaves. @param {number[]} frequencies @param {number} hz */
export function nearest(frequencies, hz) {
  const away = (one) => Math.abs(Math.log(one / hz));
  return frequencies.reduce((best, one, i) => (away(one) < away(frequencies[best]) ? i : best), 0);
}
