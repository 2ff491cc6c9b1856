import { createPinia, setActivePinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import type { VesselDefinition } from '~~/core/plan/definition'
import { changesInWords } from '~/utils/definition-changes'
import { useDraft } from './draft'

// As vessels were defined before logs and holds were.
const OLD: VesselDefinition = {
  rules: [{ id: 'one', act: 'take', kind: 'database', pattern: 'ferry-db/bookings' }],
  store: 'north',
  promises: { couldLose: 3_600_000, backWithin: null },
  readers: 2,
}
const SAVED = { slug: 'bookings', version: 3, definition: OLD }

let selections: { body: { rules: { pattern: string }[]; than: unknown }; answer: (view: unknown) => void; fail: (why: Error) => void }[]
beforeEach(() => {
  vi.useFakeTimers()
  setActivePinia(createPinia())
  selections = []
  vi.stubGlobal('$fetch', (url: string, { body }: { body?: never } = {}) => {
    if (url === '/api/selection')
      return new Promise((answer, fail) => selections.push({ body: JSON.parse(JSON.stringify(body)) as never, answer, fail }))
    if (url === '/api/sources') return Promise.resolve([{ kind: 'kubernetes', name: 'pier' }])
    return Promise.resolve(url === '/api/stores' ? [{ name: 'south' }] : null)
  })
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})
const later = (milliseconds = 0) => vi.advanceTimersByTimeAsync(milliseconds)

describe('the draft of a definition', () => {
  it('says all of what an older definition does not, and is not changed by that', () => {
    const draft = useDraft()
    draft.open(SAVED)
    expect(draft.definition).toMatchObject({ partly: 'keep', quiesce: { steps: [] }, log: { follow: false } })
    expect(draft.isChanged).toBe(false)
    draft.definition.readers = 4
    expect([draft.isChanged, changesInWords(draft.definition, draft.saved!, null)]).toEqual([true, '4 readers instead of 2.'])
    draft.setBack()
    expect([draft.isChanged, draft.definition.readers]).toEqual([false, 2])
  })

  it('is compared with what was saved last, by its version', async () => {
    const draft = useDraft()
    draft.open(SAVED)
    draft.addRule('leave', 'ferry-db/bookings/public', 'schema')
    draft.wasSaved(4)
    expect([draft.version, draft.isChanged]).toEqual([4, false])
    await later(200)
    expect(selections.at(-1)!.body.than).toHaveLength(2)
  })

  it('knows of which kind a path is once the sources are known, and takes the first store', async () => {
    const draft = useDraft()
    draft.open({ take: ['pier/boarding', 'ferry-db/bookings'] })
    await later()
    expect(draft.definition.rules.map(({ kind }) => kind)).toEqual(['namespace', 'database'])
    expect([draft.definition.store, draft.isChanged]).toEqual(['south', false])
  })

  it('shows what the newest rules take, whichever answer comes last', async () => {
    const draft = useDraft()
    draft.open(SAVED)
    await later(200)
    draft.definition.rules[0]!.pattern = 'ferry-db/crew'
    await later(200)
    expect(selections.map(({ body }) => body.rules[0]!.pattern)).toEqual(['ferry-db/bookings', 'ferry-db/crew'])
    selections[1]!.answer('of crew')
    await later()
    selections[0]!.answer('of bookings')
    await later()
    expect([draft.selection, draft.stale]).toEqual(['of crew', null])
  })

  it('says why its figures are old, until they are new', async () => {
    const draft = useDraft()
    draft.open(SAVED)
    await later(200)
    selections[0]!.fail(new Error('gone'))
    await later()
    expect(draft.stale).not.toBeNull()
    draft.moveRule(0, 0)
    await later(200)
    selections[1]!.answer('again')
    await later()
    expect([draft.selection, draft.stale]).toEqual(['again', null])
  })

  it('is of whoever opened it last, and asks nothing once it is closed', async () => {
    const draft = useDraft()
    const close = draft.open({ take: [] })
    const closeNext = draft.open(SAVED)
    close()
    await later(200)
    expect([draft.slug, selections.length]).toEqual(['bookings', 1])
    closeNext()
    draft.addRule('take')
    await later(500)
    expect(selections).toHaveLength(1)
  })
})
