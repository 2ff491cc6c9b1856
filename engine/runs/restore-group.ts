import { createHash } from 'node:crypto'
import type pg from 'pg'
import { renameStructure, structureText } from '../../core/compare/structure'
import type { TableManifest, TableStructure } from '../../core/content/manifest'
import type { Tally } from '../../core/content/rows'
import { VesselError } from '../../core/errors'
import { renamingFor } from '../../core/restore/naming'
import type { Operation } from '../../core/restore/plan'
import { noRenaming, qualified, quoteLiteral, rename, thingKey, type Renaming } from '../../core/restore/sql'
import { CATALOG, isBeforeRows, isOptional, withParts, type StructureEntry } from '../../core/restore/structure'
import { copyIn } from '../sources/postgres/copy-in'
import { copyOut } from '../sources/postgres/copy-out'
import { copyStatement } from '../sources/postgres/capture'
import { describeTables } from '../sources/postgres/describe'
import { addForeignKey, attempt, putBack, putBackForeignKeys, takeOff, type LeftPart, type TakenOff } from '../sources/postgres/refill'
import type { Store } from '../store/store'
import type { PlannedDatabase } from './restore-plan'

export interface GroupMember {
  operation: Operation
  table: TableManifest
}

export interface GroupProgress {
  structures(count: number): void
  rows(count: number, bytes: number): void
  checked(rows: number): void
}

/** What became of one table. */
export interface TableOutcome {
  operation: Operation
  rows: number
  fingerprintThen: string
  fingerprintNow: string
  structureThen: string
  structureNow: string
  equal: boolean
  left: LeftPart[]
}

/** How long a table is waited for that somebody else holds. */
export const LOCK_TIMEOUT_MS = 15_000

/**
 * Brings a group of tables back in one transaction: either all of them are back and proven equal, or everything
 * stays as it was. `keep` is called with the locks held, before anything is overwritten.
 */
export async function restoreGroup(
  client: pg.Client,
  planned: PlannedDatabase,
  store: Store,
  members: GroupMember[],
  progress: GroupProgress,
  keep: (client: pg.Client, replaced: GroupMember[]) => Promise<void>,
): Promise<TableOutcome[]> {
  const group = new GroupRestore(client, planned, store, members, progress)
  await client.query(`begin; set local lock_timeout = ${LOCK_TIMEOUT_MS}`)
  try {
    await group.lock()
    await keep(client, group.replaced())
    await group.clear()
    await group.runEntries('before')
    await group.load()
    await group.runEntries('after')
    await group.sequences()
    const outcomes = await group.prove()
    await client.query('commit')
    return outcomes
  } catch (error) {
    await client.query('rollback').catch(() => undefined)
    throw error
  }
}

/** Everything that belongs to the tables that are made: their own entries, sequences, and parts. */
export function entriesToRun({ manifest, target }: PlannedDatabase, members: GroupMember[]): StructureEntry[] {
  const made = members.filter(({ operation }) => operation.how !== 'refill')
  const beside = members.some(({ operation }) => operation.renamed)
  const oids = new Set(made.map(({ table }) => table.oid))
  const names = new Set(made.map(({ table }) => thingKey(table.schema, table.name)))
  const owned = new Set(
    manifest.sequences.filter((s) => s.ownedBy && names.has(thingKey(...s.ownedBy))).map((s) => thingKey(s.schema, s.name)),
  )
  const isRoot = (entry: StructureEntry) =>
    (entry.catalog === CATALOG.relation && entry.type === 'TABLE' && oids.has(entry.oid)) ||
    (entry.type === 'SEQUENCE' && owned.has(thingKey(entry.schema ?? '', entry.name)))
  const standing = beside
    ? []
    : manifest.entries.filter((entry) => entry.type === 'TABLE' && target.tables.has(thingKey(entry.schema ?? '', entry.name)))
  const roots = manifest.entries.filter(isRoot).map((entry) => entry.id)
  return withParts(manifest.entries, roots, new Set(standing.map((entry) => entry.id))).filter(
    // A copy beside the original has its own foreign keys; those of others stay with the original.
    (entry) => entry.type !== 'FK CONSTRAINT' || !beside || oids.has(entry.of ?? -1),
  )
}

class GroupRestore {
  private readonly renaming: Renaming
  private readonly entries: StructureEntry[]
  private readonly left: LeftPart[] = []
  private taken: TakenOff = { foreignKeys: [], triggers: [], forced: [] }

  constructor(
    private readonly client: pg.Client,
    private readonly planned: PlannedDatabase,
    private readonly store: Store,
    private readonly members: GroupMember[],
    private readonly progress: GroupProgress,
  ) {
    const { manifest, target } = planned
    const placements = members
      .filter(({ operation }) => operation.renamed)
      .map(({ operation, table }) => ({ table, target: operation.target }))
    this.renaming =
      placements.length === 0
        ? noRenaming()
        : renamingFor(placements, manifest.sequences, (schema, name) => target.relations.has(thingKey(schema, name)))
    this.entries = entriesToRun(planned, members)
  }

  replaced(): GroupMember[] {
    return this.members.filter(({ operation }) => operation.verb === 'replace')
  }

  async lock(): Promise<void> {
    const names = this.replaced()
      .map(({ operation: { target } }) => qualified(target.schema, target.name))
      .sort()
    for (const name of names) await this.client.query(`lock table only ${name} in access exclusive mode`)
  }

  /** Empties tables that keep their structure, and drops those that are made again. */
  async clear(): Promise<void> {
    const replaced = this.replaced()
    if (replaced.length === 0) return
    this.taken = await takeOff(
      this.client,
      replaced.map(({ operation }) => operation.target),
    )
    const refilled = replaced.filter(({ operation, table }) => operation.how === 'refill' && table.structure.kind === 'table')
    if (refilled.length > 0) {
      const names = refilled.map(({ operation: { target } }) => `only ${qualified(target.schema, target.name)}`)
      await this.client.query(`truncate ${names.join(', ')}`)
    }
    const rebuilt = replaced.filter(({ operation }) => operation.how === 'rebuild')
    if (rebuilt.length > 0) {
      const names = rebuilt.map(({ operation: { target } }) => qualified(target.schema, target.name))
      await this.client.query(`drop table ${names.join(', ')}`)
    }
  }

  async runEntries(when: 'before' | 'after'): Promise<void> {
    const due = this.entries.filter((entry) => isBeforeRows(entry) === (when === 'before'))
    for (const entry of due.filter(({ type }) => type !== 'FK CONSTRAINT')) await this.runEntry(entry)
    if (when === 'before') return
    await putBack(this.client, this.taken)
    for (const entry of due.filter(({ type }) => type === 'FK CONSTRAINT')) await this.runForeignKey(entry)
    const rebuilt = new Set(this.members.filter(({ operation }) => operation.how === 'rebuild').map(({ table }) => table.oid))
    // A table that was made again has its own keys from the backup; those of others point at it as before.
    this.left.push(...(await putBackForeignKeys(this.client, this.taken, (table) => !this.isMadeAgain(table, rebuilt))))
  }

  private isMadeAgain(table: string, oids: Set<number>): boolean {
    return this.members.some(
      ({ table: own }) => oids.has(own.oid) && (table === `${own.schema}.${own.name}` || table === qualified(own.schema, own.name)),
    )
  }

  private async runEntry(entry: StructureEntry): Promise<void> {
    const sql = rename(entry.sql, this.renaming)
    if (sql) {
      if (isOptional(entry)) {
        const failure = await attempt(this.client, sql)
        if (failure) this.left.push({ what: `${entry.type.toLowerCase()} ${entry.name}`, why: failure.message })
      } else {
        await this.client.query(sql)
      }
    }
    if (entry.ownerSql && this.planned.target.roles.has(entry.owner ?? '')) {
      const failure = await attempt(this.client, rename(entry.ownerSql, this.renaming))
      if (failure) this.left.push({ what: `owner of ${entry.name}`, why: failure.message })
    }
    this.progress.structures(1)
  }

  private async runForeignKey(entry: StructureEntry): Promise<void> {
    this.progress.structures(1)
    const own = this.planned.manifest.tables.find((table) => table.oid === entry.of)
    const name = entry.name.slice((own?.name.length ?? -1) + 1)
    const target = own && (this.renaming.things.get(thingKey(own.schema, own.name)) ?? own)
    if (target && (await this.hasConstraint(target.schema, target.name, name))) return
    const part = await addForeignKey(this.client, rename(entry.sql, this.renaming), `foreign key ${entry.name}`)
    if (part) this.left.push(part)
  }

  private async hasConstraint(schema: string, table: string, name: string): Promise<boolean> {
    const { rowCount } = await this.client.query(`select from pg_catalog.pg_constraint where conrelid = to_regclass($1) and conname = $2`, [
      qualified(schema, table),
      name,
    ])
    return (rowCount ?? 0) > 0
  }

  async load(): Promise<void> {
    for (const { operation, table } of this.members) {
      if (table.structure.kind !== 'table') continue
      const chunks = this.store.readAll(table.chunks.map((chunk) => chunk.name))
      await copyIn(this.client, operation.target, table.columns, chunks, (bytes, index) =>
        this.progress.rows(table.chunks[index]!.rows, bytes),
      )
    }
  }

  /** New tables get the positions of their sequences; where a sequence went on since, it stays ahead. */
  async sequences(): Promise<void> {
    for (const { table, operation } of this.members) {
      for (const sequence of this.planned.manifest.sequences) {
        if (!sequence.ownedBy || thingKey(...sequence.ownedBy) !== thingKey(table.schema, table.name)) continue
        const target = this.renaming.things.get(thingKey(sequence.schema, sequence.name)) ?? sequence
        const name = qualified(target.schema, target.name)
        const value = operation.how === 'refill' ? `greatest(last_value, ${sequence.last}::bigint)` : `${sequence.last}::bigint`
        const called = operation.how === 'refill' ? `is_called or ${sequence.called}` : `${sequence.called}`
        await this.client.query(`select setval(${quoteLiteral(name)}, ${value}, ${called}) from ${name}`)
      }
    }
  }

  /** Reads every table back and compares it with the backup; rows that differ end the transaction. */
  async prove(): Promise<TableOutcome[]> {
    const described = await describeTables(
      this.client,
      this.members.map(({ operation }) => operation.target),
    )
    const outcomes: TableOutcome[] = []
    for (const { operation, table } of this.members) {
      const { schema, name } = operation.target
      const now = described.find((candidate) => candidate.schema === schema && candidate.name === name)!
      const tally = await this.tally({ schema, name, columns: table.columns }, table)
      if (tally.fingerprint !== table.fingerprint || tally.rows !== table.rows) throw unequal(table, operation, tally)
      const [then, after] = [renameStructure(table.structure, this.renaming), now.structure].map(digest)
      outcomes.push({
        operation,
        rows: tally.rows,
        fingerprintThen: table.fingerprint,
        fingerprintNow: tally.fingerprint,
        structureThen: then!,
        structureNow: after!,
        equal: then === after,
        left: this.leftOf(table),
      })
    }
    return outcomes
  }

  private async tally(target: { schema: string; name: string; columns: string[] }, table: TableManifest): Promise<Tally> {
    if (table.structure.kind !== 'table') return { rows: 0, bytes: 0, fingerprint: table.fingerprint }
    return copyOut(this.client, copyStatement(target), {}, async (chunk) => this.progress.checked(chunk.rows))
  }

  private leftOf(table: TableManifest): LeftPart[] {
    const others = this.members.filter((member) => member.table !== table)
    // What can't be told to be another table's is told with the first.
    return this.left.filter(
      ({ what }) => what.includes(table.name) || (this.members[0]!.table === table && !others.some((o) => what.includes(o.table.name))),
    )
  }
}

export function digest(structure: TableStructure): string {
  return createHash('sha256').update(structureText(structure)).digest('hex').slice(0, 32)
}

function unequal(table: TableManifest, operation: Operation, tally: Tally): VesselError {
  return new VesselError('not_equal', {
    what: `${operation.target.schema}.${operation.target.name} does not hold the rows of the backup after loading: ${tally.rows} rows with fingerprint ${tally.fingerprint}, and the backup has ${table.rows} with ${table.fingerprint}.`,
    touched: 'The transaction was rolled back: the table is as it was before.',
    next: 'See whether something changes rows while they are loaded, such as a trigger that always fires.',
  })
}
