// @vitest-environment happy-dom
import { mount } from '@vue/test-utils'
import { createPinia, setActivePinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { defineComponent } from 'vue'
import { useSources } from './useKnown'
import { tellChange } from './useLive'

let asked: number
beforeEach(() => {
  vi.useFakeTimers()
  setActivePinia(createPinia())
  asked = 0
  vi.stubGlobal('$fetch', () => Promise.resolve([`answer ${++asked}`]))
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})
const later = () => vi.advanceTimersByTimeAsync(3000)
const shows = () =>
  mount(
    defineComponent({
      setup: () => ({ sources: useSources().data }),
      template: '<p>{{ sources }}</p>',
    }),
  )
const changed = () => tellChange({ about: 'things', source: 'ferry-db' } as never)

describe('what several pages show', () => {
  it('is asked for once after a change, however many show it, and no more when nobody does', async () => {
    const [view, other] = [shows(), shows()]
    await later()
    expect(asked).toBe(1)
    changed()
    await later()
    expect([asked, view.text(), other.text()]).toEqual([2, expect.stringContaining('answer 2'), expect.stringContaining('answer 2')])
    view.unmount()
    changed()
    await later()
    expect([asked, other.text()]).toEqual([3, expect.stringContaining('answer 3')])
    other.unmount()
    changed()
    await later()
    expect(asked).toBe(3)
  })

  it('stays as it is after a change of something else', async () => {
    const view = shows()
    await later()
    tellChange({ about: 'store' } as never)
    await later()
    expect(asked).toBe(1)
    view.unmount()
  })

  it('is kept as it is now again when it is shown anew', async () => {
    shows().unmount()
    const view = shows()
    await later()
    const before = asked
    changed()
    await later()
    expect(asked).toBe(before + 1)
    view.unmount()
  })
})
