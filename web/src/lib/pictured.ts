/** Edits, each with its time, until a picture shows it; `gust:pictured` tells (see docs/performance.md). */
type What = 'score' | 'view'

export function makePictured() {
  let edition = 0
  const unseen = { score: new Map<number, number>(), view: new Map<number, number>() }
  return {
    /** The number of edits so far. */
    now: () => edition,
    /** The document was edited. */
    edited() {
      edition++
      for (const times of Object.values(unseen)) times.set(edition, performance.now())
    },
    /** What was drawn for an edition is on the screen soon. */
    shown(what: What, edition: number) {
      // drawn in the first, on the screen by the second
      requestAnimationFrame(() =>
        requestAnimationFrame(() => {
          const late = []
          for (const [n, at] of unseen[what]) {
            if (n > edition) continue
            late.push(performance.now() - at)
            unseen[what].delete(n)
          }
          window.dispatchEvent(new CustomEvent('gust:pictured', { detail: { what, late } }))
        }),
      )
    },
  }
}
