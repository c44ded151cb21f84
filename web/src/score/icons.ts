/** A sign for each step that has no picture. */
import { mdiArrowDecision, mdiArrowDownThin, mdiArrowRightThin, mdiCreation, mdiCubeOutline, mdiDotsHorizontal, mdiHandBackRight, mdiMagnet, mdiParachute, mdiPlusCircleOutline, mdiPulse, mdiRecordCircleOutline, mdiRecycle, mdiSpeedometer, mdiSprayBottle, mdiTagOutline, mdiTrayFull, mdiTuneVariant, mdiVectorPolyline, mdiWall, mdiWaves, mdiCubeScan, mdiSmoke, mdiArrowUpThin, mdiSnowflake, mdiBlur, mdiRotate360, mdiFire, mdiArrowExpandAll, mdiPalette } from '@mdi/js'
import type { Entry } from '../api/types'

const BY_STEP: Record<string, string> = {
  emit: mdiCreation, carry: mdiArrowRightThin, speed_limit: mdiSpeedometer, scatter_direction: mdiSprayBottle, hold: mdiHandBackRight, push: mdiArrowDecision,
  ease: mdiMagnet, drag: mdiParachute, gravity: mdiArrowDownThin, stay_out: mdiWall, stay_in: mdiTrayFull, respawn: mdiRecycle, channel: mdiTagOutline,
  trail: mdiVectorPolyline, flow_lines: mdiWaves, spread_along: mdiDotsHorizontal, instances: mdiCubeOutline,
  domain: mdiCubeScan, source: mdiSmoke, rise: mdiArrowUpThin, cool: mdiSnowflake, thin_out: mdiBlur, curl_up: mdiRotate360, burn: mdiFire, expand: mdiArrowExpandAll, collide: mdiWall, colour: mdiPalette,
}
const BY_KIND: Record<string, string> = { start: mdiRecordCircleOutline, change: mdiTuneVariant, join: mdiPlusCircleOutline }
export const iconFor = (e: Pick<Entry, 'id' | 'kind'>) => BY_STEP[e.id] ?? BY_KIND[e.kind] ?? mdiPulse
