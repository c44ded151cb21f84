/** Signs of kinds of flow, by the names that kinds give. */
import { mdiCloudOutline, mdiDotsHexagon, mdiDotsTriangle, mdiPulse, mdiSproutOutline, mdiWaterOutline } from '@mdi/js'

const BY_NAME: Record<string, string> = {
  points: mdiDotsHexagon,
  cloud: mdiCloudOutline,
  drop: mdiWaterOutline,
  heap: mdiDotsTriangle,
  sprout: mdiSproutOutline,
}
export const kindIcon = (name: string) => BY_NAME[name] ?? mdiPulse
