/** Words and units of channels. */
import type { Entry, Form, Lane } from '../api/model'

/** What a volume shows when no one channel is chosen: smoke and the heat in it. */
export const SMOKE = 'smoke'
export const VELOCITY = 'vel'
/** Channels that only surfaces have. */
export const ON_SURFACES = ['thickness']
const WORDS: Record<string, string> = {
  [SMOKE]: 'smoke and heat',
  [VELOCITY]: 'speed',
  climb: 'upward speed',
  share: 'share of life',
  number: 'one colour each',
  travelled: 'length of the way',
}
const UNITS: Record<string, string> = { [VELOCITY]: 'm/s', temperature: 'K' }
/** What is looked at of a form before anything is chosen. */
export const FIRST: Partial<Record<Form, string>> = { points: 'speed', volume: SMOKE, mesh: 'speed' }

export const channelWords = (name: string) => WORDS[name] ?? name

/** Channels that may colour a flow: those of its frame, or the one that is chosen while there is none. */
export function channelsOf(known: string[] | undefined, form: Form | undefined, chosen: string) {
  const smoke = form === 'volume' ? [SMOKE] : []
  const all = [...new Set([...smoke, ...(known ?? []), ...(chosen ? [chosen] : [])])]
  return all.map((id) => ({ id, name: channelWords(id) }))
}

/** Channels that a lane's state has, by what the catalogue says of its steps, but for one. */
export function channelsIn(
  lane: Lane,
  entryOf: (op: string) => Entry | undefined,
  except = '',
): { id: string; name: string }[] {
  const names = lane.steps
    .filter((s) => s.on)
    .flatMap((s) => {
      const e = entryOf(s.op)
      const given = (name: string) => s.params[name] ?? e?.params.find((p) => p.name === name)?.default
      return [...(e?.carries ?? []), e?.names_channel ? String(given(e.names_channel) ?? '') : '']
    })
  return [...new Set(names)].filter((n) => n && n !== except).map((id) => ({ id, name: id }))
}

/** The unit of a channel of a volume: a copy has that of what it copies; null where nobody knows (formulas, channels
 * of one's own). */
export function unitOf(channel: string, lane: Lane | undefined): string | null {
  if (UNITS[channel]) return UNITS[channel]
  const made = lane?.steps.find((s) => {
    if (!s.on) return false
    if (s.op === 'channel') return (s.params.name ?? 'glow') === channel
    return s.op === 'formula' && (s.params.channel ?? 'display') === channel
  })
  if (!made) return ''
  const copies = made.params.copies
  return made.op === 'channel' && copies && copies !== channel ? unitOf(String(copies), lane) : null
}
