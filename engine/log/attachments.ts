import type { TableManifest } from '../../core/content/manifest'
import { thingKey } from '../../core/restore/sql'
import { isTableEntry, type StructureEntry } from '../../core/restore/structure'

/**
 * Which partitions are attached is known with each table, as of each transaction; statements that attach them stand for
 * no object of their own, so that nothing tells when they came or went. They are written as the tables say.
 */
export function withAttachments(entries: StructureEntry[], tables: TableManifest[]): StructureEntry[] {
  const known = new Map(tables.map((table) => [table.oid, table]))
  const tableOf = new Map(
    entries.flatMap((entry) => (isTableEntry(entry) && known.has(entry.oid) ? [[entry.id, known.get(entry.oid)!] as const] : [])),
  )
  const indexes = new Map(
    entries.flatMap(({ id, type, of }) => (/^(INDEX|CONSTRAINT)$/.test(type) && of !== null ? [[id, of] as const] : [])),
  )
  const kept = entries.filter((entry) => {
    if (entry.type === 'TABLE ATTACH') return isAttachment(entry, tableOf)
    if (entry.type !== 'INDEX ATTACH') return true
    const ends = entry.needs.flatMap((id) => indexes.get(id) ?? [])
    return ends.length >= 2 && ends.some((oid) => known.get(oid)?.structure.partitionOf != null)
  })
  const attached = new Set(kept.flatMap(({ type, schema, name }) => (type === 'TABLE ATTACH' ? [thingKey(schema ?? '', name)] : [])))
  let id = Math.max(0, ...entries.map((entry) => entry.id))
  const fresh = [...tableOf].flatMap(([child, table]) => {
    const parent = [...tableOf].find(([, described]) => thingKey(described.schema, described.name) === table.structure.partitionOf)
    return !parent || attached.has(thingKey(table.schema, table.name)) ? [] : [attachment(++id, [child, table], parent)]
  })
  return [...kept, ...fresh]
}

/** A table on another server is none of those that are known; then what was read counts. */
function isAttachment({ needs, sql }: StructureEntry, tableOf: Map<number, TableManifest>): boolean {
  const ends = needs.flatMap((id) => tableOf.get(id) ?? [])
  const child = ends.find(({ structure }) => structure.partitionOf !== null && sql.includes(structure.partitionBound ?? ''))
  if (ends.length < 2) return needs.length >= 2 && ends.length === 1 && ends[0]!.structure.kind === 'partitioned'
  return child !== undefined && ends.some((end) => end !== child && thingKey(end.schema, end.name) === child.structure.partitionOf)
}

function attachment(id: number, [child, table]: [number, TableManifest], [parent, over]: [number, TableManifest]): StructureEntry {
  return {
    id,
    catalog: 0,
    oid: 0,
    needs: [child, parent],
    name: table.name,
    type: 'TABLE ATTACH',
    schema: table.schema,
    owner: table.structure.owner,
    of: null,
    refers: null,
    sql: `ALTER TABLE ONLY ${thingKey(over.schema, over.name)} ATTACH PARTITION ${thingKey(table.schema, table.name)} ${table.structure.partitionBound}`,
    ownerSql: null,
    made: true,
  }
}
