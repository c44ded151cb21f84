/** What a study may begin with, as the server offers it. */
import { shallowRef } from 'vue'
import { call } from '../api/client'
import type { StudyDoc } from '../api/model'

export interface Beginning {
  id: string
  name: string
  about: string
  picture: boolean
  document: StudyDoc
}
export const beginnings = shallowRef<Beginning[]>([])
export async function loadBeginnings() {
  if (!beginnings.value.length) beginnings.value = await call<Beginning[]>('GET', '/beginnings')
}
