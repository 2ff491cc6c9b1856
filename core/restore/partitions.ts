import { keyOf } from '../changes/fields'
import type { TableManifest } from '../content/manifest'
import { identifierOf, thingKey, tokensOf } from './sql'

const isHashed = ({ structure }: TableManifest) => structure.partitionKey?.startsWith('HASH') === true

/** Whether the place of a row in a tree of partitions hangs on numbers that the server gives anew: those of an enum's labels. */
function hangsOnLabels(table: TableManifest): boolean {
  if (!isHashed(table)) return false
  const named = new Set(tokensOf(table.structure.partitionKey!).flatMap((token) => identifierOf(token) ?? []))
  return table.columns.some((column, i) => named.has(column) && table.shapes?.[i] != null)
}

/**
 * The root through which rows of a partition have to be loaded, because they may belong into another partition by now;
 * null where they lie where they lay.
 */
export function rootToLoadThrough(table: TableManifest, tables: TableManifest[]): TableManifest | null {
  const byName = new Map(tables.map((table) => [thingKey(table.schema, table.name), table]))
  let [root, moves] = [table, false]
  while (root.structure.partitionOf !== null) {
    const parent = byName.get(root.structure.partitionOf)
    if (!parent) return null
    root = parent
    moves ||= hangsOnLabels(root)
  }
  return moves ? root : null
}

const MASK = (1n << 64n) - 1n
const halves = (fingerprint: string) => [BigInt(`0x${fingerprint.slice(0, 16)}`), BigInt(`0x${fingerprint.slice(16)}`)]

/** The fingerprint of the rows of several tables together, which does not depend on how they are spread over them. */
export function addFingerprints(fingerprints: string[]): string {
  const sum = fingerprints.map(halves).reduce((a, b) => [(a[0]! + b[0]!) & MASK, (a[1]! + b[1]!) & MASK], [0n, 0n])
  return sum.map((half) => half.toString(16).padStart(16, '0')).join('')
}

/** Chunks of whole rows as COPY text, with their columns in another order; both orders name the same columns. */
export async function* inOrderOf(chunks: AsyncIterable<Uint8Array>, from: string[], to: string[]): AsyncGenerator<Uint8Array> {
  const at = to.map((column) => from.indexOf(column))
  for await (const chunk of chunks) {
    const ordered = new Uint8Array(chunk.length)
    for (let start = 0; start < chunk.length;) {
      const end = chunk.indexOf(NEWLINE, start)
      ordered.set(keyOf(chunk.subarray(start, end), at), start)
      ordered[end] = NEWLINE
      start = end + 1
    }
    yield ordered
  }
}

const NEWLINE = 10
