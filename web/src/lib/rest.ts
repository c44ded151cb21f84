/** What is on its way to the screen: requests, short waits, pictures that are owed. While there is none the page's
 * root carries `data-rest`: who looks by a program (tests, scripts that take pictures) waits for that instead of for a
 * time. */
let under = 0
let turns = 0
const waits = new Map<number, () => void>()

/** Something has begun; the answer says that it has ended (once; more often does no harm). */
export function underWay(): () => void {
  under++
  turns++
  delete document.documentElement.dataset.rest
  let over = false
  return () => {
    if (over) return
    over = true
    if (!--under) settle()
  }
}
/** Watchers run, and draw, within the two frames after: only then nothing follows. */
function settle() {
  const mine = turns
  requestAnimationFrame(() =>
    requestAnimationFrame(() =>
      setTimeout(() => {
        if (mine === turns) document.documentElement.dataset.rest = String(turns)
      }),
    ),
  )
}
/** Count a piece of work until it ends, however that is. */
export async function counted<T>(work: Promise<T>): Promise<T> {
  const end = underWay()
  try {
    return await work
  } finally {
    end()
  }
}
/** A timeout that counts; ended before its time by `callOff`. */
export function afterwards(work: () => void, ms: number): number {
  const end = underWay()
  const id = window.setTimeout(() => {
    waits.delete(id)
    try {
      work()
    } finally {
      end()
    }
  }, ms)
  waits.set(id, end)
  return id
}
export function callOff(id: number) {
  clearTimeout(id)
  waits.get(id)?.()
  waits.delete(id)
}
/** Something that lasts while it is so. */
export function lasting(): (is: boolean) => void {
  let end: (() => void) | null = null
  return (is) => {
    if (is) end ??= underWay()
    else {
      end?.()
      end = null
    }
  }
}
