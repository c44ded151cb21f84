/** The handbook's page of how exact steps are tells what was measured. */
import { createApp } from 'vue'
import { createVuetify } from 'vuetify'
import { VTable } from 'vuetify/components'
import { describe, expect, it } from 'vitest'
import ExactPage from '../src/handbook/ExactPage.vue'
import orders from '../src/handbook/orders.json'

describe('how exact it is', () => {
  it('shows every row with its errors in per cent, and an order where there is one', () => {
    const host = document.createElement('div')
    createApp(ExactPage)
      .use(createVuetify({ components: { VTable } }))
      .mount(host)
    const rows = [...host.querySelectorAll('tbody tr')].map((r) => [...r.children].map((c) => c.textContent))
    expect(rows.length).toBe(orders.length)
    const pushed = orders.find((o) => o.kind === 'Particles' && o.what.includes('force'))!
    const shown = rows.find((r) => r[0] === 'Particles' && r[1]!.includes('force'))!
    expect(shown[3]).toBe(`${Number((100 * pushed.errors[1]).toPrecision(2))} %`)
    expect(shown.at(-1)).toBe('2.0')
    expect(rows[0].slice(2)).toEqual([...Array(4).fill('< 0.001 %'), '–'])
  })
})
