/** From which side something is seen: degrees round (0 from +x, −90 from the front) and degrees up. The Desk leaves it
 * behind for pages whose pictures are made without it. */
export interface Side {
  azimuth: number
  height: number
}
export const FRONT: Side = { azimuth: -90, height: 0 }
const place = (study: string) => `side.${study}`

/** The side from which a camera looks at something. */
export function sideOf(camera: { x: number; y: number; z: number }, target: { x: number; y: number; z: number }): Side {
  const [x, y, z] = [camera.x - target.x, camera.y - target.y, camera.z - target.z]
  const degrees = (r: number) => Math.round((r * 1800) / Math.PI) / 10
  return { azimuth: degrees(Math.atan2(y, x)), height: degrees(Math.atan2(z, Math.hypot(x, y))) }
}
export const keepSide = (study: string, side: Side) => localStorage.setItem(place(study), JSON.stringify(side))
export function keptSide(study: string): Side | null {
  try {
    const found = JSON.parse(localStorage.getItem(place(study)) ?? 'null') as Side | null
    return found && Number.isFinite(found.azimuth) && Number.isFinite(found.height) ? found : null
  } catch {
    return null
  }
}
