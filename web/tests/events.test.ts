import { expect, test } from 'vitest'
import { merged } from '../src/lib/events'

const run = (identity: string, state: string) => ({ identity, state }) as Parameters<typeof merged>[0][number]

test('what changed takes the place of what was known, in the order that is told, and what is gone goes', () => {
  const first = merged([], { runs: [run('a', 'running'), run('b', 'done')], order: ['a', 'b'], revision: 1 })
  expect(first.map((r) => r.identity)).toEqual(['a', 'b'])
  const next = merged(first, { runs: [run('c', 'waiting'), run('a', 'done')], order: ['c', 'a'], revision: 1 })
  expect(next.map((r) => `${r.identity} ${r.state}`)).toEqual(['c waiting', 'a done'])
  expect(merged(next, { runs: [], order: ['a', 'c', 'x'], revision: 2 }).map((r) => r.identity)).toEqual(['a', 'c'])
})
