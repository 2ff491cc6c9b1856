import { DEFINITIONS } from '../../core/restore/receipt'
import { mkdtempSync, chmodSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { freePort, PostgresServer } from '../../demo/postgres-server'
import { wishOf } from '../../core/restore/wish'
import { addSource } from '../../engine/catalog/sources'
import { openPoint, noRows } from '../../engine/points/open'
import { planWish } from '../../engine/runs/restore-plan'
import { changesOf, closeBreadth, openBreadth, type Breadth } from '../support/breadth'
import { unwell } from '../support/engine'

// Everything that can be made, restored where the roles are not there, and by a role that is no superuser: what
// does not come back was told in the plan, before anything was done.

const STRANGER = { user: 'carrier', password: 'no superuser' }
let all: Breadth
let { bench, vessel, point, before: before, dumped } = {} as Breadth
let other: PostgresServer
let folder: string

beforeAll(async () => {
  all = await openBreadth()
  ;({ bench, vessel, point, before: before, dumped } = all)
  folder = mkdtempSync(join(tmpdir(), 'vessel-other-'))
  chmodSync(folder, 0o755)
  other = new PostgresServer({ folder: join(folder, 'server'), port: await freePort(), password: 'elsewhere', settings: { fsync: 'off' } })
  other.create()
  other.start()
  other.psql('postgres', `create role ${STRANGER.user} login createdb createrole password '${STRANGER.password}'`)
  const at = (user: string) => ({ ...bench.settings, port: other.port, user })
  await addSource(bench.engine, { name: 'strange', password: 'elsewhere', settings: at('postgres') })
  await addSource(bench.engine, { name: 'humble', password: STRANGER.password, settings: at(STRANGER.user) })
})
afterAll(async () => {
  await closeBreadth(all)
  other?.remove()
  if (folder) rmSync(folder, { recursive: true, force: true })
})

/** What a plan says before, by the path of what it is said of. */
async function toldBefore(wish: Parameters<typeof wishOf>[0]): Promise<{ by: Map<string, string>; general: string }> {
  const [planned] = await planWish(bench.engine, await openPoint(bench.engine, point, noRows), wishOf({ picks: [bench.path()], ...wish }))
  const { operations, warnings, blockers, checks } = planned!.plan
  const by = new Map(operations.map(({ path, warnings, notes }) => [path, [...warnings, ...notes].join(' ')]))
  return { by, general: [...warnings, ...blockers.map(({ what }) => what), ...checks.map(({ what }) => what)].join(' ') }
}

describe('a database with everything that can be made', () => {
  it('comes back into a server that has none of its roles, which are made with it', async () => {
    const wish = { into: { mode: 'elsewhere' as const, source: 'strange', database: 'all_of_it' }, makeRoles: true }
    const { run, receipts } = await bench.restore(vessel, point, wish)
    expect(run.error).toBeNull()
    expect(unwell(receipts).map(([path]) => String(path).split('/').at(-1))).toEqual([
      'adopted',
      'child',
      'grandchild',
      'structure as a whole',
    ])
    expect(withoutOrder(changesOf('all_of_it', before, dumped, other))).toEqual({})
    const members = `select roleid::regrole, member::regrole, admin_option from pg_auth_members where roleid::regrole::text ~ 'sky_' order by roleid::regrole::text`
    expect(other.psql('postgres', members)).toBe(bench.server.psql('postgres', members))
  })

  it('without its roles belongs to the role that brings it back, and what is left out was told for each', async () => {
    dropOther('all_of_it')
    other.psql('postgres', `drop role sky_owner, sky_reader, sky_clerk, sky_guest, "Sky ""Boss"""`)
    const wish = { into: { mode: 'elsewhere' as const, source: 'strange', database: 'roleless' } }
    const { by, general } = await toldBefore(wish)
    const { run, receipts } = await bench.restore(vessel, point, wish)
    expect(run.error).toBeNull()
    const failed = receipts.filter(({ outcome }) => outcome === 'failed').map(({ path }) => path)
    expect(failed.filter((path) => !/does not exist at the target|name roles/.test(by.get(path)!))).toEqual([])
    expect(failed.map((path) => path.split('/').at(-1))).toEqual([
      expect.stringContaining('USER MAPPING'),
      expect.stringContaining('USER MAPPING'),
      'every_type',
    ])
    // Each part that is left out names a role of which the plan had said that it is not there.
    for (const role of ['sky_owner', 'sky_reader', 'sky_clerk', 'sky_guest', 'Sky "Boss"'])
      expect(general).toContain(`The role ${role} does not exist`)
    const why = new Set(receipts.flatMap(({ left_parts: left }) => (left as { why: string }[]).map((part) => part.why)))
    for (const reason of why) expect(reason).toMatch(/role "(sky_|Sky "Boss")|policy "one"|It is not there|writes it otherwise|belongs to/)
    const { rows = [] } = withoutOrder(changesOf('roleless', before, dumped, other))
    expect(rows.filter((line) => !line.includes('sky.every_type'))).toEqual([])
    dropOther('roleless')
  })

  it('restored by a role that is no superuser, lacks only what was told of it before', async () => {
    const wish = { into: { mode: 'elsewhere' as const, source: 'humble', database: 'humble' }, makeRoles: true }
    const refused = await bench.restore(vessel, point, wish)
    // Two kinds are refused outright, so that nobody takes them for done.
    expect(refused.run.error).toMatchObject({ code: 'superuser_needed' })
    const without = bench.engine && (await pathsWithout(['event-trigger', 'subscription']))
    const picked = { ...wish, picks: without }
    const { by, general } = await toldBefore(picked)
    const { run, receipts } = await bench.restore(vessel, point, picked)
    expect(run.error).toBeNull()
    const lost = receipts.filter(({ outcome, equal, left_parts: left }) => outcome === 'failed' || equal === false || left.length > 0)
    // Rights that the role can't give are told by the comparison, right by right.
    const compared = lost.find(({ path }) => path.endsWith(`/${DEFINITIONS}`))!
    expect(compared.left_parts.filter(({ what }) => !what.startsWith('acl '))).toEqual([])
    const silent = lost.filter(
      ({ path }) => path !== compared.path && !/connecting role|superuser|can’t be given|can’t be made/.test(by.get(path) ?? ''),
    )
    expect(silent.map(({ path, outcome, reason, left_parts: left }) => [path, outcome, reason, ...left])).toEqual([])
    expect(general).toContain('The connecting role can’t make all of')
    // And what was told does not come back: nothing is said of what is fine.
    const fine = new Set(receipts.filter((line) => !lost.includes(line)).map(({ path }) => path))
    const cried = [...by].filter(
      ([path, words]) => fine.has(path) && /Only a superuser can|which the connecting role can’t make|can’t be made/.test(words),
    )
    expect(cried).toEqual([])
  })
})

/** Roles of a policy stand in their order of age. */
function withoutOrder(changes: Record<string, string[]>): Record<string, string[]> {
  const kept = Object.entries(changes).map(([name, lines]): [string, string[]] => [
    name,
    lines.filter((line) => !line.includes('CREATE POLICY one ON')),
  ])
  return Object.fromEntries(kept.filter(([, lines]) => lines.length > 0))
}

function dropOther(database: string): void {
  const has = other.psql('postgres', `select 1 from pg_database where datname = '${database}'`)
  if (has === '') return
  if (
    other.psql(
      database,
      'select subname from pg_subscription s join pg_database d on d.oid = s.subdbid where datname = current_database()',
    ) !== ''
  )
    other.psql(database, 'alter subscription inward disable; alter subscription inward set (slot_name = none); drop subscription inward')
  other.psql('postgres', `drop database ${database} with (force)`)
}

/** Everything of the point but some kinds, pick by pick. */
async function pathsWithout(kinds: string[]): Promise<string[]> {
  const opened = await openPoint(bench.engine, point, noRows)
  const database = opened.members[0]!.manifest.databases[0]!
  return [
    ...database.tables,
    ...database.others.filter(({ kind }) => !kinds.includes(kind)),
    ...(database.largeObjects ? [database.largeObjects] : []),
  ].map(({ path }) => path)
}
