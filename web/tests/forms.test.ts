/** What the hand does with values: keys, links, points, units that are dragged, each one edit that says so. */
import { h, nextTick } from 'vue'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { Finding, Params, StudyDoc, Vec3 } from '../src/api/model'
import ParamRow from '../src/inspector/ParamRow.vue'
import PointList from '../src/inspector/PointList.vue'
import ReadingRows from '../src/inspector/ReadingRows.vue'
import RegionForm from '../src/inspector/RegionForm.vue'
import TopBar from '../src/desk/TopBar.vue'
import { useDesk } from '../src/stores/desk'
import { useMeasuring } from '../src/stores/measuring'
import { useRuns } from '../src/stores/runs'
import type { Owner } from '../src/stores/study'
import { mounted, opened, REAL, typed } from './real'
import { doc } from './setup'

vi.mock('../src/api/client', async (original) => ({
  ...(await original<object>()),
  newest: () => Promise.resolve(null),
  newestArrays: () => Promise.resolve(null),
}))
beforeEach(() => {
  vi.useFakeTimers()
  vi.stubGlobal('visualViewport', { addEventListener() {}, removeEventListener() {} })
  vi.stubGlobal(
    'EventSource',
    class {
      close() {}
    },
  )
})

const ball = { id: 'ball', name: 'Ball', kind: 'sphere', shown: true, params: { move: [0, 0, 0] } }
const rooms = [
  ['room', 'Room', 0.1],
  ['fine', 'Fine', 0.04],
].map(([id, name, voxel_size]) => ({ id, name, bounds: { lower: [0, 0, 0], upper: [1, 1, 1], fit: [] }, voxel_size }))
const lane = (id: string, op: string, params = {}) => ({
  id,
  name: id === 'w' ? 'Wind' : 'Curl',
  steps: [{ id: 's', op, on: true, params }],
})
const study1 = () =>
  doc({
    shapes: [ball],
    regions: rooms,
    fields: [lane('c', 'curl_noise'), lane('w', 'wind', { speed: 1.5 })],
  } as never as Partial<StudyDoc>)

/** The row of a parameter of a step, shape or region, as the study stands. */
function row(owner: Owner, params: () => Params, specs: { name: string }[], name: string) {
  const spec = specs.find((p) => p.name === name)! as never
  return mounted(() => h(ParamRow, { spec, owner, raw: params()[name] }), {})
}
const stepSpecs = (op: string) => REAL.steps.find((e) => e.id === op && e.lane === 'field')!.params
const owned = (lane: string) => ({ kind: 'step', lane, id: 's' }) as const

/** Open the menu of a row and take an entry. */
async function take(page: Awaited<ReturnType<typeof mounted>>, more: string, words: string) {
  page.find(more)!.click()
  await vi.advanceTimersByTimeAsync(300)
  const entries = [...document.querySelectorAll<HTMLElement>('.v-overlay__content .v-list-item')]
  const entry = entries.find((e) => e.textContent!.includes(words))
  expect(entry, `${words} among ${entries.map((e) => e.textContent).join(' | ')}`).toBeTruthy()
  entry!.click()
  await vi.advanceTimersByTimeAsync(300)
}
const labelled = (page: { host: HTMLElement }, words: string) =>
  page.host.querySelector<HTMLInputElement>(`[aria-label="${words}"] input, input[aria-label="${words}"]`)!

describe('a number', () => {
  it('is keyed over time, at the frame that is looked at', async () => {
    const { study } = await opened(study1())
    useRuns().open('s', 1)
    const params = () => study.laneOf('c')!.steps[0].params
    const page = await row(owned('c'), params, stepSpecs('curl_noise'), 'evolve')
    await take(page, 'more-evolve', 'Key over time')
    const first = params().evolve as { keys: [number, number][] }
    expect(first.keys).toHaveLength(1)
    useRuns().go(7) // a quarter of a second at 24 a second
    await nextTick()
    ;[...page.host.querySelectorAll('button')].find((b) => b.textContent!.includes('+ key at 0.25 s'))!.click()
    await nextTick()
    await typed(labelled(page, 'Evolve, key 2'), '1.5')
    expect(params().evolve).toMatchObject({
      keys: [
        [0, first.keys[0][1]],
        [0.25, 1.5],
      ],
    })
    expect(page.faults).toEqual([])
    page.end()
  })
  it('follows another that is chosen on the screen, and is what was selected again', async () => {
    const { study } = await opened(study1())
    study.select(owned('w'))
    const waits = await row(owned('w'), () => study.laneOf('w')!.steps[0].params, stepSpecs('wind'), 'speed')
    await take(waits, 'more-speed', 'Link to a parameter')
    expect(useDesk().waiting?.spec.name).toBe('speed')
    study.select(owned('c'))
    const other = await row(owned('c'), () => study.laneOf('c')!.steps[0].params, stepSpecs('curl_noise'), 'strength')
    other.find('pick-strength')!.click()
    await nextTick()
    expect(study.laneOf('w')!.steps[0].params.speed).toEqual({ link: 'fields.c.s.strength' })
    expect([useDesk().waiting, study.selection]).toEqual([null, owned('w')])
    expect([...waits.faults, ...other.faults]).toEqual([])
    waits.end()
    other.end()
  })
  it('is dragged by its unit, a step every few pixels', async () => {
    const { study } = await opened(study1())
    const page = await row(owned('w'), () => study.laneOf('w')!.steps[0].params, stepSpecs('wind'), 'speed')
    const unit = page.find('drag-number-speed')!
    unit.setPointerCapture = () => undefined
    const at = (type: string, clientX: number) =>
      unit.dispatchEvent(new PointerEvent(type, { clientX, pointerId: 1, bubbles: true, cancelable: true }))
    at('pointerdown', 100)
    for (let x = 104; x <= 140; x += 4) {
      at('pointermove', x)
      await nextTick()
    }
    at('lostpointercapture', 140)
    at('pointermove', 200) // let go
    const speed = study.laneOf('w')!.steps[0].params.speed
    expect(speed).toBeCloseTo(2.5)
    await vi.advanceTimersByTimeAsync(400)
    expect(page.faults).toEqual([])
    page.end()
  })
})

describe('keys of a vector', () => {
  it('are each their own', async () => {
    const d = study1()
    const keys = [
      [0, [0, 0, 0]],
      [0.5, [0, 0, 0]],
    ]
    d.shapes[0].params.move = { keys } as never
    const { study } = await opened(d)
    const specs = REAL.shapes.find((s) => s.id === 'sphere')!.params
    const now = () => study.doc!.shapes[0].params
    const owner = { kind: 'shape', id: 'ball' } as const
    const page = await row(owner, now, specs, 'move')
    await typed(labelled(page, 'Move x, key 2'), '1.5')
    await typed(labelled(page, 'Move y, key 1'), '-0.25')
    expect(labelled(page, 'Move y, key 2').value).toBe('0')
    expect(page.faults).toEqual([])
    page.end()
    expect(now().move).toEqual({
      keys: [
        [0, [0, -0.25, 0]],
        [0.5, [1.5, 0, 0]],
      ],
    })
  })
})

describe('points of a path', () => {
  const path: Vec3[] = [
    [0, 0, 0],
    [1, 0, 0],
    [2, 1, 0],
  ]
  it('are added where their way goes on or between two, moved and removed, down to two', async () => {
    let now = path
    const list = (points: Vec3[]) =>
      mounted(PointList, { modelValue: points, 'onUpdate:modelValue': (next: Vec3[]) => (now = next) })
    let page = await list(now)
    page.find('add-point')!.click()
    expect(now).toEqual([...path, [3, 2, 0]])
    page.end()
    page = await list(now)
    await typed(labelled(page, 'Point 4 z'), '2.5')
    expect(now[3]).toEqual([3, 2, 2.5])
    const button = (words: string) => page.host.querySelector<HTMLButtonElement>(`button[aria-label="${words}"]`)!
    button('Add a point after point 2').click()
    expect(now[2]).toEqual([1.5, 0.5, 0])
    page.end()
    page = await list(path.slice(0, 2))
    expect(button('Remove point 1').disabled).toBe(true)
    page.end()
  })
})

describe('a region', () => {
  it('is fitted to all frames of what moves, or to the first', async () => {
    const { study } = await opened(study1())
    const page = await mounted(() => h(RegionForm, { region: study.doc!.regions[0] }), {})
    const when = async (words: string) => {
      page
        .find('fitted-when')!
        .querySelector('input')!
        .dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))
      await vi.advanceTimersByTimeAsync(300)
      const all = [...document.querySelectorAll<HTMLElement>('.v-overlay__content .v-list-item')]
      all.find((e) => e.textContent!.trim() === words)!.click()
      await vi.advanceTimersByTimeAsync(300)
      return study.doc!.regions[0]
    }
    study.edit('fit', (d) => (d.regions[0].bounds.fit = ['ball']))
    await nextTick()
    expect(await when('to all frames')).toMatchObject({ over: 'all frames', follow: false })
    expect(await when('to the first frame')).toMatchObject({ over: 'first frame', follow: false })
    expect(page.faults).toEqual([])
    page.end()
  })
  it('has voxels as large as those of another, by a link', async () => {
    const { study } = await opened(study1())
    const page = await mounted(RegionForm, { region: study.doc!.regions[0] })
    await take(page, 'more-voxel_size', 'Link to voxel size of Fine')
    expect(study.doc!.regions[0].voxel_size).toEqual({ link: 'regions.fine.voxel_size', times: 1 })
    expect(page.faults).toEqual([])
    page.end()
  })
})

describe('readings', () => {
  it('say that they are measured, and tell no number until they are', async () => {
    const page = await mounted(ReadingRows, { reading: null, measuring: true })
    expect(page.find('measuring')!.textContent).toBe('measuring …')
    expect(page.host.textContent).not.toMatch(/NaN|undefined|\d/)
    expect(page.find('readings')).toBeNull()
    page.end()
  })
})

describe('a finding', () => {
  const found = (more: Partial<Finding>): Finding =>
    ({ level: 'warning', code: 'bunching', where: 'fields.w', what: 'it bunches', why: 'so', ...more }) as Finding
  async function told(f: Finding) {
    const made = await opened(study1())
    const numbers = useMeasuring()
    ;[numbers.findings, numbers.checked] = [[f], 's']
    const page = await mounted(TopBar, {})
    page.find('checks')!.click()
    await vi.advanceTimersByTimeAsync(300)
    const on = (id: string) => document.querySelector<HTMLElement>(`.v-overlay__content [data-testid="${id}"]`)
    expect(page.find('checks')!.textContent).toContain('1 check')
    expect(on(`finding-${f.code}`)!.textContent).toContain('Wind')
    return { ...made, page, on }
  }
  it('that is intended is answered in the study, by what it is and where', async () => {
    const { study, page, on } = await told(found({ may_be_meant: true }))
    expect(on('fix-bunching')).toBeNull()
    on('meant-bunching')!.click()
    expect(study.doc!.intended).toEqual(['bunching fields.w'])
    expect(page.faults).toEqual([])
    page.end()
  })
  it('is mended by one click: a value, or a step that is selected then', async () => {
    const first = await told(found({ fix: { label: 'Slower', set: { 'fields.w.s.speed': 0.5 } } as never }))
    expect(first.on('meant-bunching')).toBeNull()
    first.on('fix-bunching')!.click()
    expect(first.study.laneOf('w')!.steps[0].params.speed).toBe(0.5)
    first.page.end()
    const step = { id: 'd', op: 'divergence_free', on: true, params: {} }
    const fix = { label: 'Make it divergence-free', set: {}, append: { lane: 'w', step } }
    const { study, saved, page, on } = await told(found({ fix: fix as never }))
    on('fix-bunching')!.click()
    expect(study.laneOf('w')!.steps.map((s) => s.op)).toEqual(['wind', 'divergence_free'])
    expect(study.selection).toEqual({ kind: 'step', lane: 'w', id: 'd' })
    await vi.advanceTimersByTimeAsync(400)
    expect(saved().at(-1)!.body!.label).toBe('Make it divergence-free')
    expect(page.faults).toEqual([])
    page.end()
  })
})
