/** Which control edits a parameter whose value it takes as it is, and what it is given besides. */
import type { Component } from 'vue'
import type { ParamSpec } from '../../api/model'
import HueBox from '../../controls/HueBox.vue'
import TextLine from '../../controls/TextLine.vue'
import TickBox from '../../controls/TickBox.vue'
import FileField from '../FileField.vue'
import PointList from '../PointList.vue'
import type { Editing } from './editing'

interface Control {
  is: Component
  given: (e: Editing) => Record<string, unknown>
}
const told = ({ spec, describedby }: Editing) => ({ label: spec.label, describedby })
const FILE: Control = {
  is: FileField,
  given: ({ spec, value }) => ({ modelValue: String(value), label: spec.label, sort: spec.files[0] }),
}
const BY_TYPE: Record<string, Control> = {
  switch: {
    is: TickBox,
    given: (e) => ({ ...told(e), modelValue: !!e.value, testid: `${e.mark || 'switch-'}${e.spec.name}` }),
  },
  colour: {
    is: HueBox,
    given: ({ spec, value }) => ({ modelValue: String(value), label: spec.label, testid: `look-${spec.name}` }),
  },
  text: {
    is: TextLine,
    given: (e) => ({
      ...told(e),
      modelValue: String(e.value),
      testid: `text-${e.spec.name}`,
      class: ['whole', { num: e.spec.name === 'expression' }],
    }),
  },
  points: { is: PointList, given: ({ spec, value }) => ({ modelValue: value, testid: `points-${spec.name}` }) },
}
export const isPlain = (spec: ParamSpec) => spec.files.length > 0 || spec.type in BY_TYPE
export const controlOf = (spec: ParamSpec): Control => (spec.files.length ? FILE : BY_TYPE[spec.type])
