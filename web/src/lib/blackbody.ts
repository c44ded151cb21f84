/** Colours of what glows: black bodies as the core works them out (Planck's law, the CIE 1931 observer), in linear
 * sRGB whose strongest part is 1. */
import shown from '../api/shown.json'

const { coolest, hottest, colours } = shown.bodies
export const COOLEST = coolest
export const HOTTEST = hottest

/** Linear sRGB of a black body at so many kelvin, between those of the table and no cooler or hotter than they are. */
export function blackBody(kelvin: number): [number, number, number] {
  const at = Math.max(0, Math.min(1, (kelvin - COOLEST) / (HOTTEST - COOLEST))) * (colours.length - 1)
  const low = Math.min(Math.floor(at), colours.length - 2)
  const [a, b] = [colours[low], colours[low + 1]]
  return [0, 1, 2].map((c) => a[c] + (at - low) * (b[c] - a[c])) as [number, number, number]
}

/** All of them from `COOLEST` to `HOTTEST`, RGBA in floats. */
export const blackBodyTable = (): Float32Array<ArrayBuffer> => new Float32Array(colours.flatMap((rgb) => [...rgb, 1]))
