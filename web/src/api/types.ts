/** The study document and the catalogue as the server sends them. */
export type Vec3 = [number, number, number]
export interface Keys { keys: [number, number | Vec3][]; between?: 'smooth' | 'linear' | 'hold' }
export interface Link { link: string; times?: number; plus?: number }
export interface FieldRef { field: string }
export type Raw = number | string | boolean | null | Vec3 | number[] | number[][] | string[] | Keys | Link | FieldRef
export type Params = Record<string, Raw>
export interface Step { id: string; op: string; on: boolean; params: Params }
export interface Lane { id: string; name: string; steps: Step[]; kind?: string }
export interface Shape { id: string; name: string; kind: string; shown: boolean; params: Params }
export interface Region {
  id: string; name: string; shown: boolean; voxel_size: Raw; turn?: Raw; follow?: boolean; over?: 'first frame' | 'all frames'; cells?: boolean
  bounds: { fit: string[]; lower: Vec3 | null; upper: Vec3 | null; padding: Raw }
}
/** How a flow is drawn; never part of a run. `low` and `high` null: fitted to the frame. */
export interface FlowLook {
  shown: boolean; colour: string; map: 'sequential' | 'diverging' | 'heat' | 'cyclic' | 'mix'; from: string; to: string
  low: number | null; high: number | null; size: number; blend: 'additive' | 'opaque'
  /** Of gas: what smoke of density 1 takes of the light in a metre, its colour, how bright heat is, and from where to where in kelvin. */
  absorb: number; tint: string; glow: number; cold: number; hot: number
}
export interface ProbeLook { axis: number; share: number; glyph: string; hidden: boolean }
export interface StudyDoc {
  format: string; version: number; name: string; note: string
  clock: { fps: number; start: number; end: number; slow_motion: number }
  shapes: Shape[]; regions: Region[]; fields: Lane[]; flows: Lane[]; looks: Record<string, Partial<FlowLook & ProbeLook>>; intended?: string[]
}
export interface ParamSpec {
  name: string; label: string; type: string; unit: string; range: [number | null, number | null]; open_below: boolean
  slider: [number, number] | null; default: Raw; required: boolean; choices: string[]; help: string
  varies: boolean; rate: boolean; when: Record<string, string[]> | null; files: string[]; optional: boolean; group: string; moment: boolean
}
export interface Entry {
  id: string; label: string; yields: string; headline: string; doc: string; mistake: string; params: ParamSpec[]
  kind: string; accepts: string; formula: string; lane: string
}
export interface Catalogue { steps: Entry[]; shapes: Entry[] }
export interface StudyOut { key: string; document: StudyDoc; revision: number; undo: string | null; redo: string | null }
export interface RunOut {
  identity: string; kind: string; study: string; flow: string; quality: string; state: string; message: string; last: number
  frames: number[]; each: number | null; left: number | null; count: number | null
}
export interface Fix { label: string; set: Record<string, Raw>; append?: { lane: string; step: Step } }
export interface Finding {
  level: 'error' | 'warning' | 'note'; code: string; where: string; what: string; why: string; fix: Fix | null; may_be_meant: boolean
}
