import { namesOfChunks } from '../../core/content/chunk-list'
import { bytesOf } from '../../core/content/text'
import { randomUUID } from 'node:crypto'
import type pg from 'pg'
import { retypedColumn } from '../../core/changes/columns'
import type { FollowedTables, NetManifest, NetTable } from '../../core/changes/manifest'
import { OP } from '../../core/changes/log-text'
import { NetChanges } from '../../core/changes/net'
import { fieldsOf, linesOf, rawFields } from '../../core/compare/rows'
import type { TableManifest } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import { qualified, quoteIdentifier, quoteLiteral } from '../../core/restore/sql'
import { select } from '../../core/selection/rules'
import { namesOf } from '../../core/things/thing'
import { lanesOf } from '../catalog/lifeline'
import { accessOf } from '../catalog/sources'
import type { Vessel } from '../catalog/vessels'
import { rangeOfKey, rangeOfRow, rangeSql, rangesOf, sumsSql, type Ranges } from '../compare/buckets'
import { inParallel } from '../parallel'
import { captureTable, DatabaseCapture, withoutRows } from '../sources/postgres/capture'
import { copyOut } from '../sources/postgres/copy-out'
import type { DescribedTable } from '../sources/postgres/describe'
import type { Store } from '../store/store'
import type { ContentWriter } from '../store/writer'
import type { RunContext } from './context'
import type { DerivedMember } from './derive'
import { readManifest, writeJson } from '../store/json'
import { writeNet } from './net-content'

type Count = (counter: string, by: number) => void

/** Bytes of rows that are held at most to tell what became of them; a table of which more differs is read whole. */
const HELD_AT_MOST = 128 * 1024 * 1024

/**
 * A differential of a source that gives no log: checksums of key ranges are compared with those of the last full, and
 * only the rows of ranges that differ travel.
 */
export class RangeDifferential {
  private capture!: DatabaseCapture
  private client!: pg.Client

  constructor(
    private readonly run: RunContext,
    private readonly vessel: Vessel,
    private readonly store: Store,
    private readonly writer: ContentWriter,
    private readonly member: string,
  ) {}

  async go(): Promise<DerivedMember> {
    const [source, database] = namesOf(this.member) as [string, string]
    const { id: sourceId, ...access } = await accessOf(this.run.engine, source)
    const parent = await this.newestFull()
    const base = (await readManifest(this.store, parent.manifest)).databases[0]!
    const label = this.member.replace('/', ' / ')
    const step = await this.run.plan({ kind: 'net', member: label, title: 'Key ranges that differ' })
    const before = this.writer.stored
    return this.run.step(step, async (count) => {
      this.capture = await DatabaseCapture.open(access, database, this.run.signal)
      this.client = await this.capture.reader()
      try {
        const taken = new Set(select(this.vessel.definition.rules, this.capture.things).taken.map(({ path }) => path))
        const tables = await this.capture.secure(taken)
        await this.capture.limits(taken)
        const changed: NetTable[] = []
        const whole: TableManifest[] = []
        const followed: FollowedTables = {}
        for (const table of tables.filter(({ structure }) => structure.kind === 'table')) {
          const old = base.tables.find(({ oid }) => oid === table.oid)
          const result = await this.table(table, old, count)
          if (result && 'chunks' in result && 'fingerprint' in result) whole.push(result)
          else if (result) changed.push(result)
          followed[table.oid] = { schema: table.schema, name: table.name, since: parent.position, born: false, why: null }
        }
        const structure = await this.capture.finish(await this.capture.structure(), this.capture.describe(tables), null)
        const at = this.run.engine.clock.ofSource(new Date(this.capture.at))
        const position = this.capture.position
        const manifest: NetManifest = {
          format: 1,
          kind: 'differential',
          source,
          database,
          from: parent.position,
          to: position,
          at: at.toISOString(),
          era: parent.era,
          structure: await writeJson(this.writer, structure),
          changed,
          whole,
          followed,
        }
        const names = await writeJson(this.writer, manifest)
        const sum = (field: 'rows' | 'bytes') => [...changed, ...whole].reduce((all, table) => all + table[field], 0)
        return {
          artifact: randomUUID(),
          sourceId,
          member: this.member,
          kind: 'differential',
          parent: parent.id,
          from: parent.position,
          position,
          era: parent.era,
          at,
          rows: sum('rows'),
          bytes: sum('bytes'),
          names,
          stored: this.writer.stored - before,
          missing: this.capture.missing,
        }
      } finally {
        await this.client.end().catch(() => undefined)
        await this.capture.close()
      }
    })
  }

  private async newestFull() {
    const { artifacts } = await lanesOf(this.run.engine, this.vessel.id)
    const ofMember = artifacts.filter(
      ({ member, kind, damaged }) => member === this.member && !damaged && (kind === 'full' || kind === 'synthetic'),
    )
    // By time: a server that was put back to an earlier state gives its positions a second time.
    const newest = ofMember.sort((a, b) => a.at.getTime() - b.at.getTime()).at(-1)
    if (newest) return this.run.engine.db.selectFrom('artifact').selectAll().where('id', '=', newest.id).executeTakeFirstOrThrow()
    throw new VesselError('no_full', {
      what: `${this.member} has no full yet that a differential could build upon.`,
      touched: 'Nothing was changed.',
      next: 'Back it up in full first.',
    })
  }

  /** What became of one table: net changes, the whole of it, or null when it is as it was. */
  private async table(table: DescribedTable, old: TableManifest | undefined, count: Count): Promise<NetTable | TableManifest | null> {
    const path = this.capture.pathOf(table)
    const now = withoutRows(table, path)
    const comparable =
      old?.numbers && old.numbers.join() === now.numbers?.join() && !retypedColumn(old, now) && old.key?.join() === now.key?.join()
    const ranges = comparable ? rangesOf(old) : null
    const differing = ranges ? await this.differing(now, old!, ranges) : null
    if (differing?.ranges.size === 0) return null
    // What differs is held in memory, then and now, until it is sorted out.
    if (!ranges || !now.key || differing!.bytes > HELD_AT_MOST) return this.whole(table, path, count)
    return this.net(now, old!, ranges, differing!.ranges, count)
  }

  private whole(table: DescribedTable, path: string, count: Count): Promise<TableManifest> {
    const moved = (rows: number, bytes: number) => (count('rows', rows), count('bytes', bytes))
    return captureTable(this.client, table, path, this.writer, { earlier: undefined, signal: this.run.signal, moved })
  }

  /** The ranges that differ, and about how many bytes of rows they have, then and now. */
  private async differing(now: TableManifest, old: TableManifest, ranges: Ranges): Promise<{ ranges: Set<string>; bytes: number }> {
    const { rows: found } = await this.client.query<{ range: string; rows: number; bytes: string; sum: string }>(
      sumsSql(now, ranges, qualified(now.schema, now.name)),
    )
    const sums = new Map<string, [number, bigint]>()
    const { pool } = this.store
    await inParallel(old.chunks, pool.threads + 2, async ({ name }) => {
      for (const [range, count, sum] of await this.store.with(name, (task) => pool.sums({ ...task, ranges }))) {
        const before = sums.get(range) ?? [0, 0n]
        sums.set(range, [before[0] + count, before[1] + BigInt(sum)])
      }
    })
    const differing = { ranges: new Set<string>(), bytes: 0 }
    const rowBytes = old.rows > 0 ? old.bytes / old.rows : 0
    const differs = (range: string, rows: number, bytes: number) => {
      differing.ranges.add(range)
      differing.bytes += rows * rowBytes + bytes
    }
    for (const { range, rows, bytes, sum } of found) {
      const before = sums.get(range)
      if (!before || before[0] !== rows || String(before[1]) !== sum) differs(range, before?.[0] ?? 0, Number(bytes))
      sums.delete(range)
    }
    for (const [range, [rows]] of sums) differs(range, rows, 0)
    return differing
  }

  /** Rows of ranges that differ, then and now, as net changes. */
  private async net(
    now: TableManifest,
    old: TableManifest,
    ranges: Ranges,
    differing: Set<string>,
    count: Count,
  ): Promise<NetTable | null> {
    const at = now.key!.map((column) => now.columns.indexOf(column))
    const keyOf = (line: string) => rawFields(line, at).join('\t')
    const before = new Map<string, string>()
    const holds = mayHold(ranges, differing)
    for await (const bytes of this.store.readAll(namesOfChunks(old.chunks.filter(({ keys }) => holds(keys)))))
      for (const line of linesOf([bytes])) if (differing.has(rangeOfRow(fieldsOf(line), ranges))) before.set(keyOf(line), line)
    const net = new NetChanges(at)
    const list = [...differing].map((range) => quoteLiteral(range)).join(', ')
    const statement = `copy (select ${now.columns.map(quoteIdentifier).join(', ')} from only ${qualified(now.schema, now.name)}
      where ${rangeSql(now, ranges)} = any (array[${list}]::bigint[])) to stdout`
    await copyOut(this.client, statement, { signal: this.run.signal }, async ({ bytes, rows }) => {
      count('rows', rows)
      count('bytes', bytes.length)
      for (const line of linesOf([bytes])) {
        const key = keyOf(line)
        const was = before.get(key)
        before.delete(key)
        if (was !== line) net.take(was === undefined ? OP.insert : OP.update, bytesOf(line), null)
      }
    })
    for (const line of before.values()) net.take(OP.deleteKey, bytesOf(line), null)
    return net.size === 0 ? null : writeNet(this.writer, now, net.share())
  }
}

/** Whether a chunk of which the keys are known may hold rows of ranges; all may where they are not by keys. */
function mayHold(ranges: Ranges, differing: Set<string>): (keys: [string, string] | null) => boolean {
  if (ranges.by !== 'integer') return () => true
  const sorted = BigInt64Array.from(differing, BigInt).sort()
  const rangeOf = (key: string) => BigInt(rangeOfKey(key, ranges.width))
  return (keys) => {
    if (!keys) return true
    const [least, most] = [rangeOf(keys[0]), rangeOf(keys[1])]
    let [from, to] = [0, sorted.length]
    while (from < to) {
      const middle = (from + to) >> 1
      if (sorted[middle]! < least) from = middle + 1
      else to = middle
    }
    return from < sorted.length && sorted[from]! <= most
  }
}
