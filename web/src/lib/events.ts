/** What the server tells by itself: runs of a study as they change, or only that something changed. */
import type { components } from '../api/schema'

type RunOut = components['schemas']['RunOut']
interface Said {
  /** Those that changed; at first all. */
  runs: RunOut[]
  /** Identities of all, the newest first. */
  order: string[]
  revision: number | null
}

/** Runs as they are after what was said. */
export function merged(before: RunOut[], said: Said): RunOut[] {
  const known = new Map([...before, ...said.runs].map((r) => [r.identity, r]))
  return said.order.map((id) => known.get(id)).filter((r) => r !== undefined)
}

/** Follow the runs of a study; returns how to stop. `lost` is called while the server cannot be reached. */
export function followRuns(
  study: string,
  told: (runs: RunOut[]) => void,
  lost: (is: boolean) => void = () => undefined,
): () => void {
  let runs: RunOut[] = []
  const source = new EventSource(`/api/events?study=${encodeURIComponent(study)}`)
  source.onmessage = (event) => {
    lost(false)
    runs = merged(runs, JSON.parse(event.data as string) as Said)
    told(runs)
  }
  source.onerror = () => {
    lost(true)
  }
  return () => {
    source.close()
  }
}

/** Be told whenever anything changes, of any study; returns how to stop. */
export function followAll(changed: () => void): () => void {
  const source = new EventSource('/api/events')
  source.onmessage = changed
  return () => {
    source.close()
  }
}
