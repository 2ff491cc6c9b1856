import { lostColumns, type LostTable } from '../../core/changes/losses'
import { brokenBy } from '../../core/changes/rewrites'
import type { Followed, FollowedTables, StructureStep } from '../../core/changes/manifest'
import type { TableManifest } from '../../core/content/manifest'
import { CATALOG } from '../../core/restore/structure'
import { withoutRows } from '../sources/postgres/capture'
import { assembleTables, type RawTables } from '../sources/postgres/describe'

/** What our trigger wrote into the log of a source, in the transaction that changed the structure. */
export interface StructureNote {
  tag: string
  statement?: string | null
  objects?: { kind: string; name: string; key?: string }[] | null
  /** Catalog and object id of what it touched, and of what it dropped, as in `1259/16384`. */
  touched?: string[] | null
  gone?: string[] | null
  /** What went along with that, and who did it. */
  went?: { kind: string; name: string }[] | null
  by?: { user: string; application: string } | null
  /** Tables that were touched, or that hang on what was, as they are now. */
  tables?: RawTables | null
  /** Object ids of tables that were touched, where they are too many to be described. */
  many?: number[] | null
  /** Tables that are about to be written anew, and why (bits of `REWRITE`). */
  rewritten?: [number, number][] | null
  /** Publication, table, and whether it had no rows. */
  added?: [string, number, boolean][] | null
  dropped?: [string, number][] | null
  /** Why the source could not tell more. */
  failed?: string
}

export const NOT_IN_LOG = 'Its changes up to here are not in the log.'
const NOT_YET = 'It is not followed yet; that begins by itself.'

export const entryOf = ({ schema, name }: { schema: string; name: string }, rest: Omit<Followed, 'schema' | 'name'>): Followed => ({
  schema,
  name,
  ...rest,
})

/** How a table stands from a position on where its rows before say nothing of it any more. */
export const holeFrom = (table: { schema: string; name: string }, since: string, why: string): Followed =>
  entryOf(table, { since, born: false, why, hole: since })

interface Member {
  publication: string
  takes(schema: string, name: string): boolean
  pathOf(table: { schema: string; name: string }): string
}

/**
 * The tables of a source and what is followed of them, as they are at the place in the log that was reached: moved on
 * by what the source tells in each transaction, so that two changes that follow each other closely are two.
 */
export class StructureModel {
  private readonly byOid: Map<number, TableManifest>
  private open = fresh()

  constructor(
    tables: TableManifest[],
    public followed: FollowedTables,
    private readonly member: Member,
  ) {
    this.byOid = new Map(tables.map((table) => [table.oid, table]))
  }

  get tables(): TableManifest[] {
    return [...this.byOid.values()]
  }

  table(oid: number): TableManifest | undefined {
    return this.byOid.get(oid)
  }

  /** Takes tables over as they were read, in place of all that was known. */
  adopt(tables: TableManifest[]): void {
    this.byOid.clear()
    for (const table of tables) this.byOid.set(table.oid, table)
  }

  /** The source told of a change, in a transaction that goes on. What comes next in the log is read by it. */
  note(note: StructureNote): void {
    const { notes, reasons, touched, broken } = this.open
    notes.push(note)
    for (const [oid, reason] of note.rewritten ?? []) reasons.set(oid, (reasons.get(oid) ?? 0) | reason)
    for (const described of note.tables ? assembleTables(note.tables) : []) {
      const { oid } = described
      const table = withoutRows(described, this.member.pathOf(described))
      const before = this.byOid.get(oid)
      if (table.structure.kind === 'foreign' || !this.member.takes(table.schema, table.name)) {
        // Rules go by names, so what was renamed or moved may be taken no more.
        if (before) this.drop(`${CATALOG.relation}/${oid}`)
        continue
      }
      const why = before ? brokenBy(before, table, reasons.get(oid) ?? 0) : null
      reasons.delete(oid)
      if (!before) this.open.born.add(oid)
      else this.lose(table, lostColumns(before, table))
      if (why !== null) broken.set(oid, why)
      touched.set(oid, table)
      this.byOid.set(oid, table)
      this.troubles.set(oid, described.trouble)
    }
    for (const key of note.gone ?? []) {
      const table = key.startsWith(`${CATALOG.relation}/`) && this.byOid.get(Number(key.split('/')[1]))
      if (table && table.structure.kind === 'table' && !this.open.born.has(table.oid)) this.lose(table, null)
      this.drop(key)
    }
  }

  /** What a transaction makes for itself and drops again is no loss; of a table that goes, its columns are none of their own. */
  private lose({ schema, name }: TableManifest, columns: string[] | null): void {
    if (columns?.length === 0) return
    const { lost } = this.open
    this.open.lost = [...lost.filter((loss) => columns !== null || loss.schema !== schema || loss.name !== name), { schema, name, columns }]
  }

  private readonly troubles = new Map<number, string | null>()

  private drop(key: string): void {
    const [catalog, oid] = key.split('/').map(Number)
    if (catalog !== CATALOG.relation) return
    this.open.left.push(key)
    this.byOid.delete(oid!)
    this.open.touched.delete(oid!)
    const { [oid!]: _, ...others } = this.followed
    this.followed = others
  }

  /** The transaction was committed: what it made of the structure. Null when it told of nothing. */
  commit(end: string): StructureStep | null {
    const { notes, touched, broken, left, lost } = this.open
    this.open = fresh()
    if (notes.length === 0) return null
    const added = new Map(
      notes.flatMap(({ added }) => added ?? []).flatMap(([to, oid, empty]) => (to === this.member.publication ? [[oid, empty]] : [])),
    )
    const withdrawn = new Set(
      notes.flatMap(({ dropped }) => dropped ?? []).flatMap(([from, oid]) => (from === this.member.publication ? [oid] : [])),
    )
    const followed: FollowedTables = {}
    for (const [oid, table] of touched) {
      if (table.structure.kind !== 'table') continue
      const trouble = this.troubles.get(oid) ?? null
      followed[oid] = this.next(table, end, {
        trouble: trouble ?? (withdrawn.has(oid) && !added.has(oid) ? NOT_YET : null),
        why: broken.get(oid) ?? null,
        empty: added.get(oid) ?? null,
      })
    }
    this.followed = { ...this.followed, ...followed }
    return {
      end,
      tables: [...touched.values()],
      touched: [
        ...new Set(notes.flatMap(({ touched, many }) => [...(touched ?? []), ...(many ?? []).map((oid) => `${CATALOG.relation}/${oid}`)])),
      ],
      gone: [...new Set([...notes.flatMap(({ gone }) => gone ?? []), ...left])],
      followed,
      named: namedIn(notes),
      more: notes.some(({ objects, touched, gone }) => (objects?.length ?? 0) > (touched?.length ?? 0) + (gone?.length ?? 0)),
      ...(notes.some(({ failed }) => failed !== undefined) ? { untold: true as const } : {}),
      ...(lost.length > 0 ? { lost } : {}),
    }
  }

  private next(
    table: TableManifest,
    end: string,
    { trouble, why, empty }: { trouble: string | null; why: string | null; empty: boolean | null },
  ): Followed {
    const known = this.followed[table.oid]
    // What can't be followed any more is not known from here on, and a hole that was there before stays one.
    const hole = why !== null || (trouble !== null && known?.since) ? end : known?.hole
    const rest = hole === undefined ? {} : { hole }
    if (trouble !== null) return entryOf(table, { since: null, born: false, why: why ?? trouble, ...rest })
    if (known?.since && why === null) return { ...known, schema: table.schema, name: table.name }
    if (known?.since) return holeFrom(table, end, why!)
    if (empty === null) return entryOf(table, { since: null, born: false, why: why ?? NOT_YET, ...rest })
    if (empty) return entryOf(table, { since: end, born: true, why: null })
    return entryOf(table, { since: end, born: false, why: why ?? NOT_IN_LOG, ...rest })
  }

  /** Tables that were published late, at a position; until they are read whole their rows are not known from the log. */
  published(oids: Iterable<number>, at: string): FollowedTables {
    const followed: FollowedTables = {}
    for (const oid of oids) {
      const table = this.byOid.get(oid)
      const known = this.followed[oid]
      if (!table || known?.since) continue
      const rest = known?.hole === undefined ? { why: NOT_IN_LOG } : { why: known.why, hole: known.hole }
      followed[oid] = entryOf(table, { since: at, born: false, ...rest })
    }
    this.followed = { ...this.followed, ...followed }
    return followed
  }

  /** Replays what is in the store already. */
  replay({ tables, gone, followed }: StructureStep): void {
    for (const table of tables) this.byOid.set(table.oid, table)
    this.followed = { ...this.followed, ...followed }
    for (const key of gone) this.drop(key)
  }
}

const fresh = () => ({
  notes: [] as StructureNote[],
  reasons: new Map<number, number>(),
  touched: new Map<number, TableManifest>(),
  broken: new Map<number, string>(),
  /** Relations that are gone or taken no more. */
  left: [] as string[],
  /** Tables that this transaction made. */
  born: new Set<number>(),
  lost: [] as LostTable[],
})

/** Parts of tables, and tables, are told with the tables themselves. */
const TOLD_WITH_TABLES = new Set([
  'table',
  'index',
  'table constraint',
  'trigger',
  'rule',
  'policy',
  'default value',
  'table column',
  'statistics object',
])

/** Things that are no tables, with their names, which nobody may ever read if they go soon. */
function namedIn(notes: StructureNote[]): Record<string, { kind: string; name: string }> {
  const all = notes.flatMap(({ objects }) => objects ?? [])
  return Object.fromEntries(
    all.flatMap(({ kind, name, key }) => (key && !TOLD_WITH_TABLES.has(kind) ? [[key, { kind, name }] as const] : [])),
  )
}
