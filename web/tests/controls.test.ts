import { describe, expect, it } from 'vitest'

const sources = import.meta.glob<string>('../src/**/*.vue', { query: '?raw', import: 'default', eager: true })

describe('controls of the interface', () => {
  it('are all of Vuetify: no raw button, select, range, checkbox, colour or text field is left', () => {
    expect(Object.keys(sources).length).toBeGreaterThan(40)
    const raw = Object.entries(sources).flatMap(([file, text]) =>
      [...text.matchAll(/<(button|select|textarea|input)\b[^>]*>/g)]
        .filter((m) => !m[0].includes('type="file"'))
        .map((m) => `${file}: ${m[0].slice(0, 60)}`),
    )
    expect(raw).toEqual([])
    const files = Object.entries(sources).filter(([, text]) => text.includes('type="file"'))
    expect(files.map(([file]) => file)).toEqual(['../src/controls/FilePick.vue'])
  })
  it('tell what they do by tooltips that the keyboard reaches, not by title alone', () => {
    const titled = Object.entries(sources).flatMap(([file, text]) =>
      [...text.matchAll(/<(button|span|div|label|v-btn|a|i|b|p)\b[^>]*\s:?title=/g)].map((m) => `${file}: ${m[1]}`),
    )
    expect(titled).toEqual([])
  })
})
