import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import type { LogManifest, StructureStep } from '../../core/changes/manifest'
import type { DatabaseManifest, Manifest } from '../../core/content/manifest'
import type { StructureEntry } from '../../core/restore/structure'
import { structureAt } from './structure-at'

// A small world: views that are made, replaced and dropped, one change after the other, and readings of them that come
// into the log later than what they saw. Wherever one looks, each view is as it was then, or it is told that it may not be.

interface Change {
  view: number
  drop: boolean
}
/** A reading that sees the first changes up to `seen`, and whose mark comes `behind` changes later. */
interface Look {
  seen: number
  behind: number
  /** What was changed in between shows in it already. */
  mixed: boolean
}

const position = (at: number) => `0/${(at * 16).toString(16).toUpperCase()}`
const endOf = (change: number) => position(change * 10)

interface View {
  /** Which change made it as it is. */
  change: number
  oid: number
}

/** The views after the first changes; one that is made once more is another one. */
function viewsAfter(changes: Change[], count: number): Map<number, View> {
  const views = new Map([[0, { change: 0, oid: 20_000 }]])
  for (const [i, { view, drop }] of changes.slice(0, count).entries())
    if (drop) views.delete(view)
    else views.set(view, { change: i + 1, oid: views.get(view)?.oid ?? 20_001 + i })
  return views
}

/** What a reading says that saw the first changes; those of things that were changed until it ended may be as they were then. */
function mixedAfter(changes: Change[], { seen, behind, mixed }: Look): { views: Map<number, View>; moved: string[] } {
  const [before, now] = [viewsAfter(changes, seen), viewsAfter(changes, seen + behind)]
  if (!mixed) return { views: before, moved: [] }
  const views = new Map([...before].map(([view, was]) => [view, now.get(view)?.oid === was.oid ? now.get(view)! : was]))
  return { views, moved: [...before].flatMap(([view, was]) => (views.get(view)!.change === was.change ? [] : [keyOf(was)])) }
}

const keyOf = ({ oid }: View) => `1259/${oid}`
const sqlOf = (view: number, { change }: View) => `CREATE VIEW public.v${view} AS SELECT ${change};`

function databaseOf(views: Map<number, View>, moved: string[], at: string): DatabaseManifest {
  const entries = [...views].map(([view, is], i): StructureEntry => ({
    id: i + 1,
    catalog: 1259,
    oid: is.oid,
    needs: [],
    name: `v${view}`,
    type: 'VIEW',
    schema: 'public',
    owner: 'postgres',
    of: null,
    refers: null,
    sql: sqlOf(view, is),
    ownerSql: null,
  }))
  const plain = { encoding: 'UTF8', collate: 'C', ctype: 'C', tables: [], sequences: [], others: [], missing: [] }
  return { name: 'bookings', ...plain, position: at, at: '2026-01-01T00:00:00Z', entries, ...(moved.length > 0 ? { moved } : {}) }
}

function stepOf(changes: Change[], i: number): StructureStep {
  const { view, drop } = changes[i]!
  const after = viewsAfter(changes, drop ? i : i + 1).get(view)
  const key = after ? [keyOf(after)] : []
  const named = drop ? {} : { [key[0]!]: { kind: 'view', name: `public.v${view}` } }
  const [touched, gone] = drop ? [[], key] : [key, []]
  return { end: endOf(i + 1), tables: [], touched, gone, named, followed: {}, more: false }
}

/** The log of all changes, cut behind some of them, with what each segment says of the readings that it holds. */
function logOf(changes: Change[], looks: Look[], cuts: Set<number>, read: Map<string, DatabaseManifest>): LogManifest[] {
  const logs: LogManifest[] = []
  let from = 0
  for (let to = 1; to <= changes.length; to++) {
    if (!cuts.has(to) && to < changes.length) continue
    const placed = looks.filter(({ seen, behind }) => seen + behind > from && seen + behind <= to).at(-1)
    const name = placed && `reading ${placed.seen}`
    if (placed) {
      const { views, moved } = mixedAfter(changes, placed)
      read.set(name!, databaseOf(views, moved, endOf(placed.seen)))
    }
    const structure = name
      ? { from: endOf(placed!.seen), exact: endOf(placed!.seen), read: endOf(placed!.seen), told: true, chunks: [name] }
      : null
    const steps = changes.slice(from, to).map((_, i) => stepOf(changes, from + i))
    const told = { relations: [], chunks: [], noticed: 'trigger', steps, structure, followed: {}, sequences: [] }
    logs.push({ ...told, from: position(from * 10 + 7), to: position(to * 10 + 7) } as unknown as LogManifest)
    from = to
  }
  return logs
}

const NOTHING_TOLD = { relations: [], chunks: [], noticed: 'compare', steps: [], structure: null, followed: {}, sequences: [] }

async function stateAfter(count: number, logs: LogManifest[], read: Map<string, DatabaseManifest>, full: DatabaseManifest) {
  const at = count * 10 + 2
  const before = logs.filter((log) => Number(log.from) < 0 || parseInt(log.from.slice(2), 16) < at * 16)
  const ahead = logs.slice(before.length)
  const from = { full: { member: 'db', databases: [full] } as unknown as Manifest, mark: full.position, nets: [], logs: before }
  const rest = { position: position(at), at: new Date(0), later: true, caughtUp: null, holes: [], following: [] }
  const next = async function* () {
    yield* ahead
  }
  const readAll = async ([name]: string[]) => read.get(name!)!
  return (await structureAt({ ...from, ...rest }, readAll, next, async () => new Uint8Array())).structure
}

/** Views that are not as they were after some changes, and of which nothing is told. */
async function silent(changes: Change[], looks: Look[], cuts: Set<number>): Promise<string[]> {
  const read = new Map<string, DatabaseManifest>()
  const logs = logOf(changes, looks, cuts, read)
  const full = databaseOf(viewsAfter(changes, 0), [], position(1))
  const wrong: string[] = []
  for (let count = 0; count <= changes.length; count++) {
    const { entries, missing } = await stateAfter(count, logs, read, full)
    const is = new Map(entries.map(({ name, sql }) => [name, sql]))
    const was = new Map([...viewsAfter(changes, count)].map(([view, was]) => [`v${view}`, sqlOf(view, was)]))
    const told = new Set(missing.map(({ path }) => path.split('/').at(-1)))
    for (const name of new Set([...is.keys(), ...was.keys()]))
      if (is.get(name) !== was.get(name) && !told.has(name)) wrong.push(`${name} after ${count}`)
  }
  return wrong
}

describe('the structure at a position', () => {
  it('is not taken from a reading of before it that comes behind it in the log', async () => {
    // Read before the second change, and placed behind it; read again after all of them.
    const changes = [1, 0, 2].map((view) => ({ view, drop: false }))
    const looks = [
      { seen: 1, behind: 2, mixed: false },
      { seen: 3, behind: 0, mixed: false },
    ]
    expect(await silent(changes, looks.slice(0, 1), new Set([2]))).toEqual([])
    expect(await silent(changes, looks, new Set([1, 2]))).toEqual([])
  })

  it('is as it was, or it is told what may not be, whatever was read when', async () => {
    const change = fc.record({ view: fc.integer({ min: 0, max: 3 }), drop: fc.boolean() })
    const look = fc.record({ seen: fc.integer({ min: 1, max: 9 }), behind: fc.integer({ min: 0, max: 4 }), mixed: fc.boolean() })
    const world = fc.tuple(
      fc.array(change, { minLength: 1, maxLength: 10 }),
      fc.array(look, { maxLength: 4 }),
      fc.uniqueArray(fc.integer({ min: 1, max: 9 })),
    )
    await fc.assert(
      fc.asyncProperty(world, async ([changes, looks, cuts]) => {
        const inOrder = looks
          .filter(({ seen, behind }) => seen + behind <= changes.length)
          .sort((a, b) => a.seen - b.seen)
          .filter(
            (look, i, all) => i === 0 || (look.seen > all[i - 1]!.seen && look.seen + look.behind > all[i - 1]!.seen + all[i - 1]!.behind),
          )
        expect(await silent(changes, inOrder, new Set(cuts))).toEqual([])
      }),
      { numRuns: 500 },
    )
  })

  it('is told not to be known yet where the source does not tell, and nobody has looked since', async () => {
    const full = databaseOf(viewsAfter([], 0), [], position(1))
    const segment = (from: number, to: number, looked: number) =>
      ({ ...NOTHING_TOLD, from: position(from), to: position(to), looked: position(looked) }) as unknown as LogManifest
    const told = async (at: number, before: LogManifest[], ahead: LogManifest[], caughtUp: number | null) => {
      const from = { full: { member: 'db', databases: [full] } as unknown as Manifest, mark: full.position, nets: [], logs: before }
      const rest = { at: new Date(0), later: true, caughtUp: caughtUp === null ? null : position(caughtUp), holes: [], following: [] }
      const next = async function* () {
        yield* ahead
      }
      const found = await structureAt(
        { ...from, ...rest, position: position(at) },
        async () => full,
        next,
        async () => new Uint8Array(),
      )
      return [found.settled, found.structure.missing.length]
    }
    expect(await told(15, [segment(1, 20, 16)], [], null)).toEqual([true, 0])
    expect(await told(15, [segment(1, 20, 14)], [], null)).toEqual([false, 1])
    expect(await told(15, [segment(1, 20, 14)], [segment(20, 30, 25)], null)).toEqual([true, 0])
    expect(await told(15, [segment(1, 20, 14)], [segment(20, 30, 14)], null)).toEqual([false, 1])
    expect(await told(22, [segment(1, 20, 18)], [], 23)).toEqual([true, 0])
    expect(await told(24, [segment(1, 20, 18)], [], 23)).toEqual([false, 1])
  })

  it('goes on telling what could not be read with it, until it is read with the rest', async () => {
    const path = 'db/bookings/public/held'
    const held = { path, reason: 'Its lock was not given within 30 s.' }
    const full = { ...databaseOf(viewsAfter([], 0), [], position(1)), missing: [held] }
    const later = databaseOf(viewsAfter([], 0), [], position(20))
    const structure = { told: true, from: position(20), exact: position(20), read: position(20), chunks: ['later'] }
    const segment = (from: number, to: number) =>
      ({ ...NOTHING_TOLD, noticed: 'trigger', from: position(from), to: position(to) }) as unknown as LogManifest
    const read = new Map([['later', later]])
    const logs = [segment(1, 17), { ...segment(17, 37), structure }]
    expect((await stateAfter(1, logs, read, full)).missing).toEqual([held])
    expect((await stateAfter(3, logs, read, full)).missing).toEqual([])
  })
})
