/** Pictures of what each step does, asked for once. */
import { ref } from 'vue'
import { arrays } from '../api/client'
import { mappingFor, paint } from './colour'

export const pictures = ref<Record<string, string>>({})
let asked = false
export async function loadPictures() {
  if (asked) return
  asked = true
  try {
    const { facts, arrays: values } = await arrays<{ size: number }>('/look/examples')
    const made: Record<string, string> = {}
    const c = document.createElement('canvas')
    c.width = c.height = facts.size
    for (const [op, v] of Object.entries(values)) {
      let low = Infinity,
        high = -Infinity
      for (const x of v) {
        low = Math.min(low, x)
        high = Math.max(high, x)
      }
      c.getContext('2d')!.putImageData(
        new ImageData(paint(v as Float32Array, facts.size, facts.size, mappingFor(low, high)), facts.size, facts.size),
        0,
        0,
      )
      made[op] = c.toDataURL()
    }
    pictures.value = made
  } catch {
    asked = false // asked again when the next list opens
  }
}
