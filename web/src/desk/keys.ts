/** Keys of the Desk. The list here is the one shown under `?`. */
import { onBeforeUnmount, onMounted, ref } from 'vue'
import { opener } from '../score/opener'
import { useLook } from '../stores/look'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'

export const KEYS: [string, string][] = [
  ['Space', 'play or pause'], [', and .', 'one frame back or on'], ['[ and ]', 'previous or next step'], ['↑ and ↓', 'lane above or below'],
  ['A', 'add a step to the selected lane'], ['D', 'step on or off'], ['hold B', 'see the field before the selected step'], ['P', 'next axis for the probe'],
  ['F', 'frame the selection'], ['1 to 4', 'draw probe, slice, particles, shapes'], ['Alt + ← →', 'move a step in its lane'], ['Del', 'remove the focused step'],
  ['Ctrl + Z, Ctrl + Shift + Z', 'undo, redo'], ['Ctrl + Enter', 'run'], ['?', 'this list'], ['Esc', 'close'],
]

export function useKeys(frame: () => void) {
  const study = useStudy()
  const runs = useRuns()
  const look = useLook()
  const sheet = ref(false)
  const laneNow = () => { const s = study.selection; return s?.kind === 'step' ? s.lane : s?.kind === 'lane' ? s.id : study.lanes.at(-1)?.id }

  function neighbour(by: number) {
    const s = study.selection
    const lane = study.laneOf(laneNow() ?? '')
    if (!lane?.steps.length) return
    const i = s?.kind === 'step' ? lane.steps.findIndex((t) => t.id === s.id) : -1
    const next = lane.steps[Math.max(0, Math.min(lane.steps.length - 1, i + by))]
    study.select({ kind: 'step', lane: lane.id, id: next.id })
  }
  function laneStep(by: number) {
    const i = study.lanes.findIndex((l) => l.id === laneNow())
    const lane = study.lanes[Math.max(0, Math.min(study.lanes.length - 1, i + by))]
    if (!lane) return
    study.select(lane.steps.length ? { kind: 'step', lane: lane.id, id: lane.steps.at(-1)!.id } : { kind: 'lane', id: lane.id })
  }
  function toggle() {
    const s = study.selection
    if (s?.kind !== 'step') return
    study.edit('Step on or off', (d) => { const t = [...d.fields, ...d.flows].find((l) => l.id === s.lane)?.steps.find((x) => x.id === s.id); if (t) t.on = !t.on })
  }
  function down(event: KeyboardEvent) {
    const target = event.target as HTMLElement
    const typing = /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName) && (target as HTMLInputElement).type !== 'checkbox'
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'z' && !typing) { event.preventDefault(); void study.step(event.shiftKey ? 'redo' : 'undo'); return }
    if ((event.ctrlKey || event.metaKey) && event.key === 'Enter') { event.preventDefault(); void runs.start(runs.quality); return }
    if (typing || event.ctrlKey || event.metaKey || event.altKey) return
    const acts: Record<string, () => void> = {
      ' ': () => runs.play(), ',': () => runs.go(runs.frame - 1), '.': () => runs.go(runs.frame + 1), '[': () => neighbour(-1), ']': () => neighbour(1),
      ArrowUp: () => laneStep(-1), ArrowDown: () => laneStep(1), a: () => { opener.value = laneNow() ?? '' }, d: toggle, b: () => { look.peek = true },
      p: () => { look.axis = (look.axis + 1) % 3 }, f: frame, '?': () => { sheet.value = !sheet.value }, Escape: () => { sheet.value = false },
      '1': () => { look.showProbe = !look.showProbe }, '2': () => { look.showSlice = !look.showSlice }, '3': () => { look.showParticles = !look.showParticles }, '4': () => { look.showShapes = !look.showShapes },
    }
    const act = acts[event.key.length === 1 ? event.key.toLowerCase() : event.key]
    if (!act || (event.key === ' ' && target.tagName === 'BUTTON')) return
    if (target.getAttribute('role') === 'slider' && event.key.startsWith('Arrow')) return
    event.preventDefault()
    act()
  }
  const up = (event: KeyboardEvent) => { if (event.key.toLowerCase() === 'b') look.peek = false }
  const blur = () => { look.peek = false }
  onMounted(() => { window.addEventListener('keydown', down); window.addEventListener('keyup', up); window.addEventListener('blur', blur) })
  onBeforeUnmount(() => { window.removeEventListener('keydown', down); window.removeEventListener('keyup', up); window.removeEventListener('blur', blur) })
  return { sheet }
}
