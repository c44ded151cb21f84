/** Whether a parameter matters while others are what they are. */
import type { ParamSpec } from '../api/model'

/** `value` gives what another parameter is; `!x` among the wanted values means any other than x. */
export function applies(p: Pick<ParamSpec, 'when'>, value: (name: string) => unknown): boolean {
  return Object.entries(p.when ?? {}).every(([name, wanted]) => {
    const now = String(value(name))
    return wanted.some((w) => (w.startsWith('!') ? now !== w.slice(1) : now === w))
  })
}
