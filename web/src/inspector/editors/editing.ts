/** What every editor of a parameter is given, and how it answers. */
import { computed } from 'vue'
import type { ParamSpec, Raw } from '../../api/model'
import type { Owner } from '../../stores/study'

export interface Editing {
  spec: ParamSpec
  /** As it is in force: what is kept, or the default. */
  value: Raw
  owner: Owner
  /** `look-` for rows of a look, which are told from those of a step. */
  mark: string
  /** The element that says what the parameter does. */
  describedby: string
  /** Whether the value is worked out, since none is kept. */
  fitted?: boolean
  /** Channels that may be named. */
  channels?: { id: string; name: string }[]
}
export const unitOf = (spec: ParamSpec) => (spec.unit === 'as the field' ? '' : spec.unit)
export const useUnit = (props: Editing) => computed(() => unitOf(props.spec))
