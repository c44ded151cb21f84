/** Actions by name, for the search and the key sheet: one list, so that neither forgets one. */
export interface Action {
  name: string
  key?: string
  act: () => void
}
