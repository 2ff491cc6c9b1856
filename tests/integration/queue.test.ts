import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import type { RunKind } from '../../engine/catalog/types'
import { Workbench } from '../support/engine'

// Which run a worker takes first, of several that wait.

let bench: Workbench
beforeAll(async () => {
  bench = await Workbench.open()
})
afterAll(() => bench?.close())

describe('runs that wait', () => {
  it('are taken by what somebody waits for: restores, then backups, then what looks after stores', async () => {
    const vessel = await bench.vessel()
    const kinds: RunKind[] = ['prune', 'verify', 'backup', 'restore', 'reindex', 'backup', 'undo']
    const known = new Map<string, RunKind>()
    for (const kind of kinds) known.set(await bench.engine.startRun({ kind, vessel, startedBy: 'a test' }), kind)
    const taken: RunKind[] = []
    let isPutBack = false
    await bench.engine.queue.work(1, async (id) => {
      // One that could not begin yet comes again with what it is worth.
      if (known.get(id) === 'backup' && !isPutBack) {
        isPutBack = true
        return 'later'
      }
      taken.push(known.get(id)!)
      return 'over'
    })
    await vi.waitFor(() => expect(taken).toHaveLength(kinds.length), { timeout: 30_000, interval: 100 })
    expect(taken.slice(0, 3)).toEqual(['restore', 'undo', 'backup'])
    expect(taken.slice(3).filter((kind) => kind !== 'backup')).toEqual(['prune', 'verify', 'reindex'])
  })
})
