/** The side of a cell's square in 0..1, by area against the fullest cell; visible as soon as anybody is there. */
export function side(count: number, fullest: number): number {
  return count ? Math.max(0.1, Math.sqrt(count / Math.max(fullest, 1))) : 0;
}

/** Consecutive strips of a square: [band, from, to] in 0..1. */
export function strips(bands: number[]): [number, number, number][] {
  const total = bands.reduce((a, b) => a + b, 0);
  let at = 0;
  const out: [number, number, number][] = [];
  bands.forEach((n, band) => {
    if (n) {
      out.push([band, at / total, (at + n) / total]);
      at += n;
    }
  });
  return out;
}
