/** Which component edits a parameter: one a type, and one for keys and links in the place of a number. */
import type { Component } from 'vue'
import type { ParamSpec, Raw } from '../../api/model'
import ChoiceEditor from './ChoiceEditor.vue'
import KeysEditor from './KeysEditor.vue'
import LinkEditor from './LinkEditor.vue'
import NumberEditor from './NumberEditor.vue'
import { isPlain } from './plain'
import PlainEditor from './PlainEditor.vue'
import ProfileEditor from './ProfileEditor.vue'
import ShapesEditor from './ShapesEditor.vue'
import VectorEditor from './VectorEditor.vue'
import WordsOnly from './WordsOnly.vue'

const BY_TYPE: Record<string, Component> = {
  number: NumberEditor,
  integer: NumberEditor,
  vector: VectorEditor,
  range: VectorEditor,
  choice: ChoiceEditor,
  shape: ChoiceEditor,
  region: ChoiceEditor,
  field: ChoiceEditor,
  flow: ChoiceEditor,
  channel: ChoiceEditor,
  shapes: ShapesEditor,
  curve: ProfileEditor,
}
export type Special = '' | 'keys' | 'link' | 'field'
/** What stands in the place of a plain value, if anything does. */
export function specialOf(raw: Raw | undefined): Special {
  if (!raw || typeof raw !== 'object' || Array.isArray(raw)) return ''
  return 'keys' in raw ? 'keys' : 'link' in raw ? 'link' : 'field'
}
export function editorOf(spec: ParamSpec, special: Special): Component {
  if (special === 'keys') return KeysEditor
  if (special === 'link') return LinkEditor
  if (special === 'field') return WordsOnly
  return isPlain(spec) ? PlainEditor : (BY_TYPE[spec.type] ?? WordsOnly)
}
