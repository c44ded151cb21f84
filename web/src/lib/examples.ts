/** Pictures of what each step does, and each of its parameters, asked for once. */
import { ref } from 'vue'
import { arrays, type Arrays } from '../api/client'
import { mappingFor, paint } from './colour'

export const pictures = ref<Record<string, string>>({})
export interface Shown {
  value: string | number | boolean
  url: string
}
/** By step, and by parameter: pictures for some of its values. */
export const figures = ref<Record<string, Record<string, Shown[]>>>({})
const asked = new Set<string>()

const range = (all: Arrays[string][]) => {
  let [low, high] = [Infinity, -Infinity]
  for (const values of all)
    for (const x of values) {
      low = Math.min(low, x)
      high = Math.max(high, x)
    }
  return mappingFor(low, high)
}
function painted(values: Arrays[string], size: number, mapping = range([values])): string {
  const c = document.createElement('canvas')
  c.width = c.height = size
  c.getContext('2d')!.putImageData(new ImageData(paint(values as Float32Array, size, size, mapping), size, size), 0, 0)
  return c.toDataURL()
}
/** Do it once; again when it did not work and is asked for anew. */
async function once(what: string, work: () => Promise<void>) {
  if (asked.has(what)) return
  asked.add(what)
  try {
    await work()
  } catch {
    asked.delete(what)
  }
}
export const loadPictures = () =>
  once('', async () => {
    const { facts, arrays: values } = await arrays<{ size: number }>('/look/examples')
    pictures.value = Object.fromEntries(Object.entries(values).map(([op, v]) => [op, painted(v, facts.size)]))
  })
export const loadFigures = (op: string) =>
  once(op, async () => {
    const { facts, arrays: values } = await arrays<{
      size: number
      figures: { param: string; values: Shown['value'][] }[]
    }>(`/look/examples/${op}`)
    const made: Record<string, Shown[]> = {}
    for (const f of facts.figures) {
      const all = f.values.map((_, n) => values[`${f.param}.${n}`])
      const mapping = range(all)
      made[f.param] = f.values.map((value, n) => ({ value, url: painted(all[n], facts.size, mapping) }))
    }
    figures.value = { ...figures.value, [op]: made }
  })
