import { namesOfChunks } from '../../core/content/chunk-list'
import type pg from 'pg'
import type { TableManifest } from '../../core/content/manifest'
import type { Mend } from '../../core/restore/mends'
import type { Operation } from '../../core/restore/plan'
import { droppedBy } from '../../core/restore/drop'
import { rootToLoadThrough } from '../../core/restore/partitions'
import { plainIdentifier, qualified, quoteLiteral, thingKey } from '../../core/restore/sql'
import { isBeforeRows, tableIds, withParts, type StructureEntry } from '../../core/restore/structure'
import { definitionKey, type Dependent } from '../../core/restore/target'
import { commitSurely } from '../sources/postgres/commit'
import { copyIn } from '../sources/postgres/copy-in'
import { silence } from '../sources/postgres/event-triggers'
import { lockAll } from '../sources/postgres/locks'
import { mergeRows, type Merged } from '../sources/postgres/merge'
import { dropDependents, dropUses, dependentEntries, refreshFilled } from '../sources/postgres/rebuild'
import {
  addForeignKey,
  nothingTakenOff,
  partnersOf,
  putBack,
  putBackForeignKeys,
  quieten,
  relaxDomains,
  takeOff,
  type UnrestoredPart,
  type TakenOff,
} from '../sources/postgres/refill'
import { EntryWriter } from '../sources/postgres/write-entry'
import type { Store } from '../store/store'
import { entriesToRun, type GroupMember } from '../../core/restore/entries'
import { makeDependents } from './make-dependents'
import { keyOf } from './restore-others'
import { prove, type TableOutcome } from './proof'
import type { PlannedDatabase } from './restore-plan'

export interface GroupProgress {
  structures(count: number): void
  rows(count: number, bytes: number): void
  checked(rows: number): void
}

/** A group with what it needs from outside. */
export interface GroupJob {
  planned: PlannedDatabase
  store: Store
  members: GroupMember[]
  /** Things without rows that stand between the tables. */
  inner: Operation[]
  /** The structure of the target as it is now, where something is dropped and made again. */
  before: StructureEntry[]
  /** What stands upon tables that are made again, now. */
  rebuilds: Dependent[]
  progress: GroupProgress
  /** Called with the locks held, before anything is overwritten. */
  keep: (client: pg.Client, overwritten: GroupMember[]) => Promise<void>
}

/** Brings a group of tables back in one transaction: either all of them are back and proven equal, or everything stays as it was. */
export async function restoreGroup(client: pg.Client, job: GroupJob): Promise<TableOutcome[]> {
  const group = new GroupRestore(client, job)
  await client.query('begin')
  try {
    await group.lock()
    const restore = await silence(client)
    await job.keep(client, group.standing())
    await group.clear()
    await group.types()
    await group.runEntries('before')
    await group.rebuild('functions')
    const strict = await relaxDomains(
      client,
      job.members.map(({ operation }) => operation.target),
    )
    await group.load()
    await strict()
    await group.runEntries('after')
    await group.rebuild('rest')
    await group.mend()
    await group.sequences()
    const outcomes = await prove(client, job, group.merged, group.unrestored)
    await restore()
    await commitSurely(client, job.planned)
    return outcomes
  } catch (error) {
    await client.query('rollback').catch(() => undefined)
    throw error
  }
}

/** The lock under which rows are added to a table, or under which it is emptied or made again. */
export const lockStatement = ({ schema, name }: { schema: string; name: string }, adds: boolean) =>
  `lock table only ${qualified(schema, name)} in ${adds ? 'share row exclusive' : 'access exclusive'} mode`

const countsDown = (name: string) =>
  `(select seqincrement < 0 from pg_catalog.pg_sequence where seqrelid = ${quoteLiteral(name)}::regclass)`

class GroupRestore {
  private readonly entries: StructureEntry[]
  readonly unrestored: UnrestoredPart[] = []
  private readonly writer: EntryWriter
  readonly merged = new Map<TableManifest, Merged>()
  private readonly rebuilds: Dependent[]
  private takenOff: TakenOff = nothingTakenOff()
  /** What stood upon a table and waits for its own operation, by `thingKey`. */
  private readonly gone = new Set<string>()
  private readonly made = new Set<number>()
  /** Entries of what stood upon tables and types that are there again. */
  private readonly rebuilt = new Set<number>()

  constructor(
    private readonly client: pg.Client,
    private readonly job: GroupJob,
  ) {
    const { planned, members, inner } = job
    this.entries = entriesToRun(planned, members, inner)
    this.writer = new EntryWriter(client, planned.writing, this.unrestored)
    this.rebuilds = job.rebuilds
  }

  private by(...hows: Operation['how'][]): GroupMember[] {
    return this.job.members.filter(({ operation }) => hows.includes(operation.how))
  }

  /** Tables that stand at the target and are written to. */
  standing(): GroupMember[] {
    return this.by('refill', 'rebuild', 'merge', 'rows')
  }

  /** Locks what is written to, and the tables at the other end of foreign keys that are taken off meanwhile. */
  async lock(): Promise<void> {
    const locks = this.standing().map(({ operation: { how, target } }) => lockStatement(target, how === 'merge' || how === 'rows'))
    const emptied = this.by('refill', 'rebuild').map(({ operation }) => operation.target)
    const partners = (await partnersOf(this.client, emptied)).map((table) => lockStatement(table, false))
    await lockAll(this.client, [...new Set([...locks, ...partners])].sort())
  }

  /** Empties tables that keep their structure, and drops those that are made again with what stands upon them. */
  async clear(): Promise<void> {
    const targets = (members: GroupMember[]) => members.map(({ operation }) => operation.target)
    for (const { before } of this.mends()) for (const statement of before) await this.client.query(statement)
    const quiet = await quieten(this.client, targets(this.by('merge', 'rows')))
    const rebuilt = this.by('rebuild')
    const refilled = this.by('refill').filter(({ table }) => table.structure.kind === 'table')
    this.takenOff = await takeOff(this.client, targets([...this.by('refill'), ...rebuilt]))
    this.takenOff.triggers.push(...quiet.triggers)
    this.takenOff.rules.push(...quiet.rules)
    this.takenOff.forced.push(...quiet.forced)
    this.takenOff.checks.push(...quiet.checks)
    if (refilled.length > 0)
      await this.client.query(
        `truncate ${refilled.map(({ operation: { target } }) => `only ${qualified(target.schema, target.name)}`).join(', ')}`,
      )
    if (rebuilt.length === 0) return
    await dropUses(this.client, this.rebuilds, targets(rebuilt))
    await dropDependents(this.client, this.rebuilds)
    await this.client.query(
      `drop table ${targets(rebuilt)
        .map(({ schema, name }) => qualified(schema, name))
        .join(', ')}`,
    )
    await this.dropTypes()
    // What was on a table that is dropped went with it; the backup brings its own.
    const isGone = ({ table }: { table: string }) => this.isOneOf(table, rebuilt)
    this.takenOff.triggers = this.takenOff.triggers.filter((part) => !isGone(part))
    this.takenOff.rules = this.takenOff.rules.filter((part) => !isGone(part))
    this.takenOff.forced = this.takenOff.forced.filter((table) => !isGone({ table }))
    this.takenOff.checks = this.takenOff.checks.filter((part) => !isGone(part))
  }

  /** Types that are made again, and casts of them; what needs another one goes first. */
  private async dropTypes(): Promise<void> {
    const { inner, before, planned } = this.job
    const keys = new Set(inner.filter(({ when }) => when === 'group').map((operation) => keyOf(operation, planned.manifest)))
    for (const entry of before.filter((candidate) => keys.has(definitionKey(candidate))).reverse())
      for (const statement of droppedBy(entry)) await this.client.query(statement)
  }

  private isOneOf(table: string, members: GroupMember[]): boolean {
    return members.some(
      ({ operation: { target } }) =>
        table === `${target.schema}.${target.name}` || table === `${plainIdentifier(target.schema)}.${plainIdentifier(target.name)}`,
    )
  }

  /** Types that are made again, and functions that stood upon them, which tables may need. */
  async types(): Promise<void> {
    const types = this.job.inner.filter(({ kind, when }) => kind === 'type' && when === 'group')
    if (types.length === 0) return
    const entriesOfTypes = types.flatMap(({ entries }) => entries)
    const { entries } = this.job.planned.manifest
    const parts = new Set(withParts(entries, entriesOfTypes, tableIds(entries)).map(({ id }) => id))
    for (const entry of this.entries.filter(({ id }) => parts.has(id))) await this.runEntry(entry)
    await this.rebuild('upon types')
  }

  async runEntries(when: 'before' | 'after'): Promise<void> {
    const due = this.entries.filter((entry) => isBeforeRows(entry) === (when === 'before') && !this.made.has(entry.id))
    const keys = due.filter(({ type }) => type === 'FK CONSTRAINT')
    const isOfKey = ({ needs }: StructureEntry) => keys.some(({ id }) => needs.includes(id))
    const others = due.filter(({ type }) => type !== 'FK CONSTRAINT')
    for (const entry of others.filter((candidate) => !isOfKey(candidate))) await this.runEntry(entry)
    if (when === 'before') return
    await putBack(this.client, this.takenOff)
    // A table that was made again has its own keys from the backup; those of others point at it as before.
    const rebuilt = this.by('rebuild')
    this.unrestored.push(...(await putBackForeignKeys(this.client, this.takenOff, (table) => !this.isOneOf(table, rebuilt))))
    for (const entry of keys) await this.runForeignKey(entry)
    for (const entry of others.filter(isOfKey)) await this.runEntry(entry)
  }

  private mends(): (Mend & { of: string })[] {
    return this.by('refill').flatMap(({ operation, table }) => operation.mends.map((mend) => ({ ...mend, of: table.name })))
  }

  /** Makes equal what differed in tables that stand, beside their rows; what fails is told, and the rest goes on. */
  async mend(): Promise<void> {
    for (const mend of this.mends()) {
      if (mend.key && (await this.hasConstraint(mend.key.schema, mend.key.table, mend.key.name))) continue
      await this.writer.mend(mend, mend.of)
    }
  }

  private async runEntry(entry: StructureEntry): Promise<void> {
    this.made.add(entry.id)
    await this.writer.run(entry)
    this.job.progress.structures(1)
  }

  private async runForeignKey(entry: StructureEntry): Promise<void> {
    this.job.progress.structures(1)
    const { manifest, writing } = this.job.planned
    const keyed = manifest.tables.find((table) => table.oid === entry.of)
    const name = entry.name.slice((keyed?.name.length ?? -1) + 1)
    const target = keyed && (writing.renaming.things.get(thingKey(keyed.schema, keyed.name)) ?? keyed)
    if (target && (await this.hasConstraint(target.schema, target.name, name))) return
    const part = await addForeignKey(this.client, this.writer.sqlOf(entry), `foreign key ${entry.name}`)
    if (part) this.unrestored.push(part)
  }

  private async hasConstraint(schema: string, table: string, name: string): Promise<boolean> {
    const { rowCount } = await this.client.query(`select from pg_catalog.pg_constraint where conrelid = to_regclass($1) and conname = $2`, [
      qualified(schema, table),
      name,
    ])
    return (rowCount ?? 0) > 0
  }

  /** Views and functions that stood upon tables and types which were made again. */
  async rebuild(which: 'upon types' | 'functions' | 'rest'): Promise<void> {
    if (this.rebuilds.length === 0) return
    const entries = dependentEntries(this.job.before, this.rebuilds)
    // Functions of a table's rows come first, because an index of then may need them; before that, those of none.
    const late = new Set(entries.filter(({ type }) => which !== 'rest' && type.endsWith('VIEW')).map(({ id }) => id))
    if (which === 'upon types') for (const id of tableIds(this.job.before)) late.add(id)
    for (const { id, needs } of entries) if (needs.some((need) => late.has(need))) late.add(id)
    const due = entries.filter(({ id }) => !late.has(id) && !this.rebuilt.has(id))
    const gone = await makeDependents(this.client, this.job.planned, this.writer, due, 'a table that was made again')
    for (const { id } of due) this.rebuilt.add(id)
    for (const key of gone) this.gone.add(key)
    if (which === 'rest') await refreshFilled(this.client, this.rebuilds, this.job.planned.filled, this.gone)
  }

  async load(): Promise<void> {
    const { store, progress, planned } = this.job
    for (const { operation, table } of this.job.members) {
      if (table.structure.kind !== 'table' || planned.wish.what === 'structure') continue
      if (operation.how === 'merge' || operation.how === 'rows') {
        const pick = operation.how === 'rows' ? planned.wish.rows[operation.path]! : null
        const job = { client: this.client, store, table, target: operation.target, pick, loaded: progress.rows }
        this.merged.set(table, await mergeRows(job))
        continue
      }
      const chunks = store.readAll(namesOfChunks(table.chunks))
      const root = rootToLoadThrough(table, planned.manifest.tables)
      const into = this.job.members.find((member) => member.table === root)?.operation.target ?? operation.target
      await copyIn(this.client, into, table.columns, chunks, (bytes, index) => progress.rows(table.chunks.at(index)!.rows, bytes))
    }
  }

  /** New tables get the positions of their sequences; where a sequence went on since, it stays ahead. */
  async sequences(): Promise<void> {
    const { manifest, writing, wish } = this.job.planned
    if (wish.what === 'structure') return
    for (const { table, operation } of this.job.members) {
      for (const sequence of manifest.sequences) {
        if (!sequence.ownedBy || thingKey(...sequence.ownedBy) !== thingKey(table.schema, table.name)) continue
        const target = writing.renaming.things.get(thingKey(sequence.schema, sequence.name)) ?? sequence
        const name = qualified(target.schema, target.name)
        // Rows of then and their sequence belong together; where rows of now stay, it never goes back.
        const isThere = operation.how !== 'create' && operation.how !== 'rebuild'
        const stands = isThere && (operation.how !== 'refill' || wish.what !== 'both')
        if (isThere && !(await this.isSequence(name))) continue
        const before = `${sequence.last}::bigint`
        const value = stands
          ? `case when ${countsDown(name)} then least(last_value, ${before}) else greatest(last_value, ${before}) end`
          : before
        const called = stands ? `is_called or ${sequence.called}` : `${sequence.called}`
        await this.client.query(`select setval(${quoteLiteral(name)}, ${value}, ${called}) from ${name}`)
      }
    }
  }

  private async isSequence(name: string): Promise<boolean> {
    const { rows } = await this.client.query<{ is: boolean }>(`select to_regclass($1) is not null as is`, [name])
    return rows[0]!.is
  }
}
