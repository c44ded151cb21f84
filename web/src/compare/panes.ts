/** What each picture of the Compare screen shows; kept in the address, so that it can be kept and sent. */
import type { RunOut, StudyDoc } from '../api/types'

export interface Pane { run: string; channel: string }
/** How all pictures map values to colours. low, high: null fits them to all pictures of the frame. */
export interface Mapped { map: 'sequential' | 'diverging' | 'heat'; low: number | null; high: number | null; absorb: number }
export const MOST = 9

export const written = (panes: Pane[]) => panes.map((p) => `${p.run}:${p.channel}`).join(',')
export function read(text: unknown, runs: RunOut[]): Pane[] {
  const parts = typeof text === 'string' ? text.split(',') : []
  return parts.map((p) => p.split(':')).filter(([run]) => runs.some((r) => r.identity === run)).slice(0, MOST).map(([run, channel]) => ({ run, channel: channel || 'smoke' }))
}
/** Two pictures worth comparing: two runs of the first flow that has them, or two channels of its newest run. */
export function first(runs: RunOut[], doc: StudyDoc): Pane[] {
  for (const flow of doc.flows) {
    const own = runs.filter((r) => r.flow === flow.id && r.frames.length)
    if (!own.length) continue
    const gas = own[0].kind === 'gas'
    if (!gas) return [own[0], own[1] ?? own[0]].map((r, i) => ({ run: r.identity, channel: own[1] || !i ? 'speed' : 'age' }))
    const added = flow.steps.filter((s) => s.on && s.op === 'channel').map((s) => String(s.params.name ?? 'glow'))
    if (added.length) return [{ run: own[0].identity, channel: 'temperature' }, { run: own[0].identity, channel: added[0] }]
    const other = own[1] ?? runs.find((r) => r.kind === 'gas' && r.flow !== flow.id && r.frames.length)
    return other ? [own[0], other].map((r) => ({ run: r.identity, channel: 'density' })) : ['smoke', 'density'].map((channel) => ({ run: own[0].identity, channel }))
  }
  return []
}
export function nameOf(run: RunOut, runs: RunOut[], doc: StudyDoc): string {
  const flow = doc.flows.find((f) => f.id === run.flow)?.name ?? run.flow
  const same = runs.filter((r) => r.flow === run.flow && r.quality === run.quality)
  const age = same.findIndex((r) => r.identity === run.identity)
  return `${flow} · ${run.quality} · ${age ? `${age} before` : 'newest'}`
}
