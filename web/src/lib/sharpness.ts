/** Whether the view draws half of its pixels: kept for this browser, not in the study. */
const PLACE = 'half-pixels'

export const halfPixels = () => !!localStorage.getItem(PLACE)
export function keepHalfPixels(on: boolean) {
  if (on) localStorage.setItem(PLACE, '1')
  else localStorage.removeItem(PLACE)
}
