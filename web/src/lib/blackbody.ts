/** Colours of what glows: Planck's law seen by the eye of the CIE 1931 observer, as linear sRGB.
 *
 * The observer's curves are the fits by Wyman, Sloan and Shirley ("Simple Analytic Approximations to the CIE XYZ Color
 * Matching Functions", 2013). Colours that a screen cannot show are cut at its gamut; the strongest part is 1. */

const bump = (x: number, at: number, below: number, above: number) =>
  Math.exp(-0.5 * ((x - at) * (x < at ? below : above)) ** 2)
const observer = (nm: number) => [
  1.056 * bump(nm, 599.8, 0.0264, 0.0323) +
    0.362 * bump(nm, 442.0, 0.0624, 0.0374) -
    0.065 * bump(nm, 501.1, 0.049, 0.0382),
  0.821 * bump(nm, 568.8, 0.0213, 0.0247) + 0.286 * bump(nm, 530.9, 0.0613, 0.0322),
  1.217 * bump(nm, 437.0, 0.0845, 0.0278) + 0.681 * bump(nm, 459.0, 0.0385, 0.0725),
]
/** Second radiation constant, nm K. */
const C2 = 1.438776877e7

/** Linear sRGB of a black body at so many kelvin, its strongest part 1. */
export function blackBody(kelvin: number): [number, number, number] {
  let [x, y, z] = [0, 0, 0]
  for (let nm = 380; nm <= 780; nm += 5) {
    // relative to 780 nm: cool bodies would else be lost in rounding
    const power = ((nm / 780) ** -5 * Math.exp((-C2 / kelvin) * (1 / nm - 1 / 780))) / -Math.expm1(-C2 / (nm * kelvin))
    const [a, b, c] = observer(nm)
    x += a * power
    y += b * power
    z += c * power
  }
  const rgb = [
    3.2404542 * x - 1.5371385 * y - 0.4985314 * z,
    -0.969266 * x + 1.8760108 * y + 0.041556 * z,
    0.0556434 * x - 0.2040259 * y + 1.0572252 * z,
  ].map((v) => Math.max(0, v))
  const most = Math.max(...rgb, 1e-30)
  return rgb.map((v) => v / most) as [number, number, number]
}

export const COOLEST = 600
export const HOTTEST = 6600
/** 256 colours from `COOLEST` to `HOTTEST`, RGBA in floats. */
export function blackBodyTable(): Float32Array<ArrayBuffer> {
  const out = new Float32Array(4 * 256)
  for (let i = 0; i < 256; i++) {
    const [r, g, b] = blackBody(COOLEST + ((HOTTEST - COOLEST) * i) / 255)
    out.set([r, g, b, 1], 4 * i)
  }
  return out
}
