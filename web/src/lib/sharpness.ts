/** How many of the screen's pixels the view draws: kept for this browser, not in the study. */
const PLACE = 'pixels'

export const SHARPNESS = [
  { share: 1, name: 'All pixels', about: 'sharp' },
  { share: 0.5, name: 'Half as sharp', about: 'quicker, on a slow machine' },
  { share: 0.25, name: 'A quarter as sharp', about: 'quick on a machine without a graphics card' },
] as const
export const keptSharpness = () => SHARPNESS.find((s) => String(s.share) === localStorage.getItem(PLACE))?.share ?? 1
export const keepSharpness = (share: number) => localStorage.setItem(PLACE, String(share))
