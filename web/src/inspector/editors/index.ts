/** Which component edits a parameter: one a type, and one for keys and links in the place of a number. */
import type { Component } from 'vue'
import type { ParamSpec, Raw } from '../../api/model'
import ChoiceEditor from './ChoiceEditor.vue'
import ColourEditor from './ColourEditor.vue'
import FileEditor from './FileEditor.vue'
import KeysEditor from './KeysEditor.vue'
import LinkEditor from './LinkEditor.vue'
import NumberEditor from './NumberEditor.vue'
import PointsEditor from './PointsEditor.vue'
import ProfileEditor from './ProfileEditor.vue'
import ShapesEditor from './ShapesEditor.vue'
import SwitchEditor from './SwitchEditor.vue'
import TextEditor from './TextEditor.vue'
import VectorEditor from './VectorEditor.vue'
import WordsOnly from './WordsOnly.vue'

const BY_TYPE: Record<string, Component> = {
  number: NumberEditor,
  integer: NumberEditor,
  vector: VectorEditor,
  range: VectorEditor,
  switch: SwitchEditor,
  choice: ChoiceEditor,
  shape: ChoiceEditor,
  region: ChoiceEditor,
  field: ChoiceEditor,
  flow: ChoiceEditor,
  channel: ChoiceEditor,
  colour: ColourEditor,
  shapes: ShapesEditor,
  curve: ProfileEditor,
  points: PointsEditor,
  text: TextEditor,
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
  return spec.files.length ? FileEditor : (BY_TYPE[spec.type] ?? WordsOnly)
}
