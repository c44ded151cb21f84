/** Numbers of what is looked at, and findings on the study: they come after the pictures. */
import { defineStore, storeToRefs } from 'pinia'
import { ref, shallowRef } from 'vue'
import { newest } from '../api/client'
import type { Finding, Reading } from '../api/model'
import { useRuns } from './runs'
import { useStudy } from './study'
import { useWorking } from './working'

const REST = 300 // milliseconds without another edit

export const useMeasuring = defineStore('measuring', () => {
  const study = useStudy()
  const runs = useRuns()
  const { guarded } = useWorking()
  const { doc } = storeToRefs(study)
  const reading = shallowRef<Reading | null>(null)
  /** The numbers are not yet those of what is selected, as it stands. */
  const measuring = ref(false)
  const findings = ref<Finding[]>([])
  /** The study that they are of: none as long as the first are on their way. */
  const checked = ref('')

  /** Read the numbers of a place: the body of the request, or null if there is none. */
  async function read(place: object | null) {
    if (!doc.value || !place) {
      reading.value = null
      measuring.value = false
      return
    }
    await guarded('reading', async () => {
      const response = await newest('reading', '/look/reading', place)
      if (!response) return // a newer one is on its way
      const made = (await response.json()) as Reading
      reading.value = made.kind === 'none' ? null : made
      measuring.value = false
    })
  }
  async function check(body: object) {
    if (!doc.value) return
    const of = study.key
    await guarded('checks', async () => {
      const { current } = runs
      const there = current && !runs.stale && current.frame === runs.frame
      const frame = there ? { run: current.identity, frame: current.frame } : {}
      const response = await newest('checks', '/look/checks', { ...body, ...frame })
      if (!response) return
      findings.value = await response.json()
      checked.value = of
    })
  }
  let quiet = 0
  function later(body: object, place: () => object | null) {
    clearTimeout(quiet)
    quiet = window.setTimeout(() => {
      void read(place())
      void check(body)
    }, REST)
  }
  return { reading, measuring, findings, checked, read, check, later }
})
