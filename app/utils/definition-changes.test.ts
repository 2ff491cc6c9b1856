import { describe, expect, it } from 'vitest'
import { defaultLog } from '~~/core/plan/definition'
import type { WholeDefinition } from '~/stores/draft'
import { changesInWords } from './definition-changes'

const before: WholeDefinition = {
  rules: [],
  store: 'north',
  promises: { couldLose: null, backWithin: null },
  readers: 2,
  log: defaultLog(false),
  quiesce: { steps: [], budgetMs: 5000 },
  partly: 'keep',
}
const words = (change: Partial<WholeDefinition>, than: { fresh: number; dropped: number } | null = { fresh: 0, dropped: 0 }) =>
  changesInWords({ ...before, ...change }, before, than)

describe('what saving would change', () => {
  it('is told in numbers of things', () => {
    expect(words({}, { fresh: 1, dropped: 2 })).toBe('1 thing is taken that was not. 2 things are taken no more.')
  })

  it('is told of each heading', () => {
    expect(words({ store: 'south' })).toBe('Points go to south from now on; those in north stay.')
    expect(words({ log: { ...before.log, follow: true } })).toBe('The log is followed from now on; a full begins by itself.')
    expect(words({ log: { ...before.log, everySeconds: 99 } })).toBe('The log is followed in another way.')
    expect(words({ quiesce: { steps: [], budgetMs: 9000 } })).toBe('Members are held in another way.')
    expect(words({ partly: 'fail' })).toBe('A point is made of everything or not at all.')
    expect(words({ promises: { couldLose: 1, backWithin: null }, readers: 3 })).toBe('Other promises are made. 3 readers instead of 2.')
  })

  it('says that it takes the same only where that is known', () => {
    expect(words({})).toBe('The rules are written differently and take the same.')
    expect(words({}, null)).toBe('')
  })
})
