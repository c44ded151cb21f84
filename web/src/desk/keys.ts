/** Keys of the Desk. The list of actions is the one shown under `?` and searched under `/`. */
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { copy, cut, duplicate, paste, remove as removeSteps, wrap } from '../score/clipboard'
import { useDesk } from '../stores/desk'
import { useView } from '../stores/view'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'
import type { Action } from './actions'

export function useKeys(frame: () => void, compare: () => void) {
  const study = useStudy()
  const runs = useRuns()
  const shows = useView()
  const sheet = ref(false)
  const laneNow = () => {
    const s = study.selection
    return s?.kind === 'step' ? s.lane : s?.kind === 'lane' ? s.id : study.lanes.at(-1)?.id
  }

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
    study.select(
      lane.steps.length ? { kind: 'step', lane: lane.id, id: lane.steps.at(-1)!.id } : { kind: 'lane', id: lane.id },
    )
  }
  function toggle() {
    const s = study.selection
    if (s?.kind !== 'step') return
    study.edit('Step on or off', (d) => {
      const t = [...d.fields, ...d.flows].find((l) => l.id === s.lane)?.steps.find((x) => x.id === s.id)
      if (t) t.on = !t.on
    })
  }
  /** Keys that are a single character may be switched off, for who speaks or types by accident (WCAG 2.1.4). */
  const letters = ref(!localStorage.getItem('no-letters'))
  watch(letters, (on) => {
    if (on) localStorage.removeItem('no-letters')
    else localStorage.setItem('no-letters', '1')
  })
  const searching = ref(false)
  const history = ref(false)
  /** Every action with its key; the search and the key sheet show this list. */
  const actions: Action[] = [
    { name: 'Play or pause', key: 'Space', act: () => runs.play() },
    { name: 'One frame back', key: ',', act: () => runs.go(runs.frame - 1) },
    { name: 'One frame on', key: '.', act: () => runs.go(runs.frame + 1) },
    { name: 'Previous step', key: '[', act: () => neighbour(-1) },
    { name: 'Next step', key: ']', act: () => neighbour(1) },
    { name: 'Lane above', key: '↑', act: () => laneStep(-1) },
    { name: 'Lane below', key: '↓', act: () => laneStep(1) },
    {
      name: 'Add a step to the selected lane',
      key: 'A',
      act: () => {
        useDesk().opener = laneNow() ?? ''
      },
    },
    { name: 'Step on or off', key: 'D', act: toggle },
    {
      name: 'See the field before the selected step',
      key: 'hold B',
      act: () => {
        shows.peek = !shows.peek
      },
    },
    {
      name: 'Before and after side by side',
      key: 'Shift B',
      act: () => {
        shows.split = !shows.split
      },
    },
    {
      name: 'Next axis for the probe',
      key: 'P',
      act: () => {
        shows.axis = (shows.axis + 1) % 3
      },
    },
    { name: 'Frame the selection', key: 'F', act: frame },
    {
      name: 'Parallel or perspective view',
      key: 'O',
      act: () => {
        shows.parallel = !shows.parallel
      },
    },
    {
      name: 'Draw the probe',
      key: '1',
      act: () => {
        shows.showProbe = !shows.showProbe
      },
    },
    {
      name: 'Draw the slice',
      key: '2',
      act: () => {
        shows.showSlice = !shows.showSlice
      },
    },
    {
      name: 'Draw particles',
      key: '3',
      act: () => {
        shows.showFlows = !shows.showFlows
      },
    },
    {
      name: 'Draw shapes',
      key: '4',
      act: () => {
        shows.showShapes = !shows.showShapes
      },
    },
    {
      name: 'The picture alone, with the time bar',
      key: 'V',
      act: () => {
        shows.alone = !shows.alone
      },
    },
    { name: 'Compare runs and channels', key: 'C', act: compare },
    { name: 'Copy steps', key: 'Ctrl C', act: () => void copy() },
    { name: 'Cut steps', key: 'Ctrl X', act: cut },
    { name: 'Paste steps', key: 'Ctrl V', act: paste },
    { name: 'Duplicate steps', key: 'Ctrl D', act: duplicate },
    { name: 'Wrap steps into a lane of their own', key: 'W', act: wrap },
    { name: 'Remove steps', key: 'Del', act: () => removeSteps() },
    { name: 'Undo', key: 'Ctrl Z', act: () => void study.step('undo') },
    { name: 'Redo', key: 'Ctrl Shift Z', act: () => void study.step('redo') },
    { name: 'Run', key: 'Ctrl Enter', act: () => void runs.runNow(runs.quality) },
    {
      name: 'History of the study',
      key: 'H',
      act: () => {
        history.value = true
      },
    },
    {
      name: 'Search everything',
      key: '/',
      act: () => {
        searching.value = true
      },
    },
    {
      name: 'All keys',
      key: '?',
      act: () => {
        sheet.value = !sheet.value
      },
    },
  ]
  const byKey = (key: string) => actions.find((a) => a.key?.toLowerCase() === key)?.act
  function down(event: KeyboardEvent) {
    const target = event.target as HTMLElement
    const typing = /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName) && (target as HTMLInputElement).type !== 'checkbox'
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'z' && !typing) {
      event.preventDefault()
      void study.step(event.shiftKey ? 'redo' : 'undo')
      return
    }
    if ((event.ctrlKey || event.metaKey) && event.key === 'Enter') {
      event.preventDefault()
      void runs.runNow(runs.quality)
      return
    }
    // a menu or dialog that is open has the keyboard to itself
    if (
      typing ||
      (document.querySelector('.v-overlay--active:not(.v-tooltip):not(.v-snackbar)') && event.key !== 'Escape')
    )
      return
    if (event.ctrlKey || event.metaKey) {
      const act =
        ['c', 'x', 'v', 'd'].includes(event.key.toLowerCase()) && !window.getSelection()?.toString()
          ? byKey(`ctrl ${event.key.toLowerCase()}`)
          : undefined
      if (act) {
        event.preventDefault()
        act()
      }
      return
    }
    if (event.altKey || (!letters.value && event.key.length === 1 && event.key !== ' ')) return
    if (event.key === 'b' || event.key === 'B') {
      event.preventDefault()
      if (event.shiftKey) shows.split = !shows.split
      else shows.peek = true
      return
    }
    const names: Record<string, string> = { ' ': 'space', ArrowUp: '↑', ArrowDown: '↓' }
    if (event.key === 'Escape') {
      sheet.value = false
      shows.split = shows.alone = false
      return
    }
    const act = byKey(names[event.key] ?? event.key.toLowerCase())
    if (!act || (event.key === ' ' && target.tagName === 'BUTTON')) return
    if ((target.getAttribute('role') === 'slider' || target.tagName === 'circle') && event.key.startsWith('Arrow'))
      return
    event.preventDefault()
    act()
  }
  const up = (event: KeyboardEvent) => {
    if (event.key.toLowerCase() === 'b') shows.peek = false
  }
  const blur = () => {
    shows.peek = false
  }
  onMounted(() => {
    window.addEventListener('keydown', down)
    window.addEventListener('keyup', up)
    window.addEventListener('blur', blur)
  })
  onBeforeUnmount(() => {
    window.removeEventListener('keydown', down)
    window.removeEventListener('keyup', up)
    window.removeEventListener('blur', blur)
  })
  return { sheet, letters, searching, history, actions }
}
