/** Short names of what the server says: all of it is generated from its own models. */
import type { components } from './schema'

type S = components['schemas']
export type Vec3 = [number, number, number]
export type Raw = S['Raw']
export type Params = Record<string, Raw>
export type Keys = S['Keys']
export type Link = S['Link']
export type FieldRef = S['FieldRef']
export type Step = S['Step']
export type Lane = S['FieldLane'] & { kind?: string }
export type Shape = S['Shape']
export type Region = S['Region']
export type PointsLook = S['PointsLook']
export type VolumeLook = S['VolumeLook']
export type MeshLook = S['MeshLook']
export type LightLook = S['LightLook']
/** How the results of a flow are drawn, whatever their forms; `key`: where the light comes from that goes through a
 * volume, in degrees. */
export type FlowLook = PointsLook & VolumeLook & MeshLook & { key?: [number, number] }
/** How a study wants to be seen when it is opened. */
export interface ProbeLook {
  axis: number
  share: number
  glyph: string
  hidden: boolean
}
export type StudyDoc = Omit<S['Study'], 'looks'> & { looks: Record<string, Partial<FlowLook & ProbeLook>> }
export type ParamSpec = S['ParamSpec']
export type ShapeEntry = S['ShapeEntry']
export type Entry = S['Entry']
export type KindEntry = S['KindEntry']
export type ResultEntry = S['ResultEntry']
export type Catalogue = S['Catalogue']
export type Form = ResultEntry['form']
export type StudyOut = Omit<S['StudyOut'], 'document'> & { document: StudyDoc }
export type RunOut = S['RunOut']
export type Fix = S['Fix']
export type Finding = S['CheckOut']
export type Numbers = S['NumbersOut']
export type Cost = S['CostOut']
export type Reading = S['ReadingOut']
export type Halved = S['HalvedOut']
export type PointsHead = S['PointsHead']
export type TexelsHead = S['TexelsHead']
export type MeshHead = S['MeshHead']
export type DrawnHead = S['DrawnHead']
export type VolumesCompared = S['VolumesCompared']
export type PointsCompared = S['PointsCompared']
export type VolumeDifference = S['VolumeDifference']
export type PointsDifference = S['PointsDifference']
