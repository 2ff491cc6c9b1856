import type pg from 'pg'
import { VesselError } from '../../core/errors'
import { RowChunker } from '../../core/content/rows'
import type { TableManifest } from '../../core/content/manifest'
import type { Operation, Wish } from '../../core/restore/plan'
import { qualified, quoteIdentifier, quoteLiteral } from '../../core/restore/sql'
import { withParts, type StructureEntry } from '../../core/restore/structure'
import { plural } from '../../core/time/words'
import { accessOf, discoverSource } from '../catalog/sources'
import type { Vessel } from '../catalog/vessels'
import { connect, translate, withClient } from '../sources/postgres/connect'
import { attempt, type LeftPart } from '../sources/postgres/refill'
import { readStructure } from '../sources/postgres/utilities'
import type { Store } from '../store/store'
import type { RunContext } from './context'
import { keepOverwritten } from './keep'
import { Receipts } from './receipts'
import { entriesToRun, restoreGroup, type GroupMember } from './restore-group'
import { blockedBy, openPoint, planWish, type PlannedDatabase } from './restore-plan'

export interface RestoreParams {
  point: string
  wish: Wish
  reason: string | null
}

const UNTOUCHED = 'It was rolled back: what stood there before is as it was.'

/** Brings things back, or with `rehearsal` does everything that can be done without writing. */
export async function restore(run: RunContext, vessel: Vessel, params: RestoreParams, rehearsal: boolean): Promise<void> {
  const point = await openPoint(run.engine, params.point)
  const planned = await planWish(run.engine, point, params.wish)
  const blocker = blockedBy(planned)
  if (blocker) throw blocker
  const receipts = new Receipts(run)
  for (const database of planned) {
    run.set('rows expected', run.get('rows expected') + database.plan.rows)
    run.set('bytes expected', run.get('bytes expected') + database.plan.bytes)
    run.set('structures expected', run.get('structures expected') + structuresOf(database))
    for (const warning of database.plan.warnings) await run.say('warning', warning)
  }
  for (const database of planned) {
    if (rehearsal) await rehearseDatabase(run, database, point.store, receipts)
    else await new DatabaseRestore(run, vessel, database, point.store, receipts).go()
  }
  const tally = await receipts.save()
  const undone = tally.left + tally.failed + tally.leftParts > 0
  if (!rehearsal && tally.made + tally.replaced + tally.renamed === 0 && tally.failed > 0) throw receipts.firstFailure!
  await run.end(undone || run.warnings > 0 ? 'warned' : 'done', { outcome: { ...tally, rehearsal, point: params.point } })
}

/** How many structures will be made: things without rows, and all that belongs to the tables that are made. */
function structuresOf(planned: PlannedDatabase): number {
  const { plan } = planned
  const standalone = plan.operations.filter((operation) => operation.kind !== 'table' && operation.verb === 'make')
  return plan.groups.reduce((sum, group) => sum + entriesToRun(planned, membersOf(planned, group)).length, standalone.length)
}

function membersOf({ plan, manifest }: PlannedDatabase, group: number[]): GroupMember[] {
  return group.map((i) => {
    const operation = plan.operations[i]!
    return { operation, table: manifest.tables.find((table) => table.path === operation.path)! }
  })
}

class DatabaseRestore {
  private readonly kept: string[] = []

  constructor(
    private readonly run: RunContext,
    private readonly vessel: Vessel,
    private readonly planned: PlannedDatabase,
    private readonly store: Store,
    private readonly receipts: Receipts,
  ) {}

  async go(): Promise<void> {
    const { access, manifest, plan } = this.planned
    const member = `${access.name} / ${manifest.name}`
    const before = await this.run.plan({ kind: 'structure', member, title: 'Structures before rows' })
    const groups = []
    for (const group of plan.groups)
      groups.push({ group, ordinal: await this.run.plan({ kind: 'group', member, title: this.titleOf(group) }) })
    const after = await this.run.plan({ kind: 'structure', member, title: 'What depends on them' })
    await this.run.step(before, async (count) => {
      await this.makeDatabase()
      await this.standalone((operation) => !operation.after, count)
    })
    for (const { group, ordinal } of groups) await this.restoreOne(group, ordinal)
    await this.run.step(after, (count) => this.standalone((operation) => operation.after, count))
    for (const operation of plan.operations) if (operation.verb === 'leave') this.receipts.left(operation, operation.notes[0] ?? '')
    await this.finish()
  }

  private titleOf(group: number[]): string {
    const names = group.map((i) => this.planned.plan.operations[i]!.target).map(({ schema, name }) => `${schema}.${name}`)
    return names.length > 3 ? `${names.slice(0, 2).join(', ')} and ${names.length - 2} more together` : names.join(', ')
  }

  /** Things without rows: each in a transaction of its own, so that one that fails takes no other with it. */
  private async standalone(which: (operation: Operation) => boolean, count: (counter: string, by: number) => void): Promise<void> {
    const { access, manifest, plan } = this.planned
    const due = plan.operations.filter((operation) => operation.kind !== 'table' && operation.verb === 'make' && which(operation))
    if (due.length === 0) return
    await withClient(access, manifest.name, async (client) => {
      for (const operation of due) {
        this.run.signal.throwIfAborted()
        await this.makeOne(client, operation)
        count('structures', 1)
      }
    })
  }

  private async makeDatabase(): Promise<void> {
    const { access, manifest, target } = this.planned
    if (target.exists) return
    await withClient(access, undefined, (client) =>
      client.query(
        `create database ${quoteIdentifier(manifest.name)} template template0 encoding ${quoteLiteral(manifest.encoding)}
         lc_collate ${quoteLiteral(manifest.collate)} lc_ctype ${quoteLiteral(manifest.ctype)}`,
      ),
    )
    target.exists = true
    await this.run.say('info', `The database ${manifest.name} was made.`)
  }

  private async makeOne(client: pg.Client, operation: Operation): Promise<void> {
    const { manifest, target } = this.planned
    const left: LeftPart[] = []
    await client.query('begin')
    try {
      for (const entry of withParts(manifest.entries, operation.entries)) await makeEntry(client, entry, operation, target.roles, left)
      const sequence = manifest.sequences.find(
        (s) => operation.kind === 'sequence' && s.schema === operation.target.schema && s.name === operation.target.name,
      )
      if (sequence)
        await client.query(
          `select setval(${quoteLiteral(qualified(sequence.schema, sequence.name))}, ${sequence.last}, ${sequence.called})`,
        )
      const other = manifest.others.find((candidate) => candidate.path === operation.path)
      if (other?.populated) await client.query(`refresh materialized view ${qualified(operation.target.schema, operation.target.name)}`)
      await client.query('commit')
      this.receipts.made(operation, left)
    } catch (error) {
      await client.query('rollback')
      this.receipts.failed(
        operation,
        new VesselError('structure_failed', {
          what: `The ${operation.kind.replace('-', ' ')} ${operation.target.name} could not be made: ${(error as Error).message}`,
          touched: 'It was not made; everything else went on.',
          next: 'Make what it needs, and bring it back again.',
          cause: error,
        }),
      )
    }
  }

  private async restoreOne(group: number[], ordinal: number): Promise<void> {
    const { access, manifest } = this.planned
    const members = membersOf(this.planned, group)
    this.run.signal.throwIfAborted()
    try {
      await this.run.step(ordinal, async (count) => {
        const client = await connect(access, manifest.name)
        const stop = () => (client as unknown as { connection: { stream: { destroy(): void } } }).connection.stream.destroy()
        this.run.signal.addEventListener('abort', stop)
        try {
          // Before locks are held, because the dump needs its own.
          const before = members.some(({ operation }) => operation.verb === 'replace')
            ? await readStructure(access, manifest.name, client, { signal: this.run.signal })
            : []
          const outcomes = await restoreGroup(
            client,
            this.planned,
            this.store,
            members,
            {
              structures: (n) => count('structures', n),
              rows: (n, bytes) => (count('rows', n), count('bytes', bytes)),
              checked: (n) => count('rows checked', n),
            },
            (locked, replaced) => this.keep(locked, replaced, before),
          )
          for (const outcome of outcomes) this.receipts.table(outcome)
          for (const {
            operation: { target },
          } of outcomes)
            await client.query(`analyze ${qualified(target.schema, target.name)}`).catch(() => undefined)
        } finally {
          this.run.signal.removeEventListener('abort', stop)
          await client.end().catch(() => undefined)
        }
      })
    } catch (error) {
      if (this.run.signal.aborted) throw error
      const told = this.explain(error)
      for (const { operation } of members) this.receipts.failed(operation, told)
      await this.run.say('error', told instanceof VesselError ? `${told.message} ${told.touched}` : String(told))
    }
  }

  private async keep(client: pg.Client, replaced: GroupMember[], before: StructureEntry[]): Promise<void> {
    if (replaced.length === 0) return
    const access = await accessOf(this.run.engine, this.planned.access.name)
    this.kept.push(await keepOverwritten(this.run, this.vessel, this.store, access, client, this.planned.manifest, replaced, before))
    await this.run.say('info', `What stood there was kept as a point of its own: ${plural(replaced.length, 'table')}.`)
  }

  private explain(error: unknown): unknown {
    const { access, manifest } = this.planned
    return translate(error, access, manifest.name, UNTOUCHED)
  }

  private async finish(): Promise<void> {
    const { access } = this.planned
    await discoverSource(this.run.engine, (await accessOf(this.run.engine, access.name)).id)
  }
}

async function makeEntry(
  client: pg.Client,
  entry: StructureEntry,
  operation: Operation,
  roles: Set<string>,
  left: LeftPart[],
): Promise<void> {
  const own = operation.entries.includes(entry.id)
  if (own && entry.sql) await client.query(entry.sql)
  else if (entry.sql) {
    const failure = await attempt(client, entry.sql)
    if (failure) left.push({ what: `${entry.type.toLowerCase()} ${entry.name}`, why: failure.message })
  }
  if (entry.ownerSql && roles.has(entry.owner ?? '')) {
    const failure = await attempt(client, entry.ownerSql)
    if (failure) left.push({ what: `owner of ${entry.name}`, why: failure.message })
  }
}

/** Reads all content that would be needed and proves it; asks for the locks and gives them back. */
async function rehearseDatabase(run: RunContext, planned: PlannedDatabase, store: Store, receipts: Receipts): Promise<void> {
  const { access, manifest, plan, target } = planned
  const member = `${access.name} / ${manifest.name}`
  const content = await run.plan({ kind: 'content', member, title: 'Content can be read' })
  const locks = await run.plan({ kind: 'locks', member, title: 'Locks are given' })
  await run.step(content, async (count) => {
    for (const operation of plan.operations) {
      const table = manifest.tables.find((candidate) => candidate.path === operation.path)
      if (operation.verb === 'leave') receipts.left(operation, operation.notes[0] ?? '')
      else if (!table) receipts.rehearsed(operation, null)
      else receipts.rehearsed(operation, await readThrough(run, store, table, count))
    }
  })
  await run.step(locks, async () => {
    const replaced = plan.operations.filter((operation) => operation.verb === 'replace')
    if (!target.exists || replaced.length === 0) return
    await withClient(access, manifest.name, async (client) => {
      await client.query(`begin; set local lock_timeout = '2s'`)
      for (const {
        target: { schema, name },
      } of replaced) {
        await client.query(`lock table only ${qualified(schema, name)} in access exclusive mode`).catch((error: unknown) => {
          throw translate(error, access, manifest.name)
        })
      }
      await client.query('rollback')
    })
  })
}

async function readThrough(
  run: RunContext,
  store: Store,
  table: TableManifest,
  count: (counter: string, by: number) => void,
): Promise<string> {
  const chunker = new RowChunker()
  let index = 0
  for await (const bytes of store.readAll(table.chunks.map((chunk) => chunk.name))) {
    run.signal.throwIfAborted()
    const cutting = chunker.push(bytes)
    while (!cutting.next().done);
    count('rows', table.chunks[index++]!.rows)
    count('bytes', bytes.length)
  }
  const { fingerprint } = chunker.tally()
  if (fingerprint === table.fingerprint) return fingerprint
  throw new VesselError('content_unequal', {
    what: `What the store holds of ${table.path} does not have the fingerprint that was taken at capture.`,
    touched: 'Nothing was changed.',
    next: 'Bring back from another point, and verify the store.',
  })
}
