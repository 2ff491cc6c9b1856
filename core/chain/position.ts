const FORM = /^([0-9a-f]{1,8})\/([0-9a-f]{1,8})$/i

/** A position in PostgreSQL's write-ahead log (`16/B2A41F08`) as a number that orders it; undefined for any other text. */
export function positionOf(text: string): bigint | undefined {
  const match = FORM.exec(text.trim())
  return match ? (BigInt(`0x${match[1]}`) << 32n) | BigInt(`0x${match[2]}`) : undefined
}

/** The later of two positions. */
export const laterPosition = (a: string, b: string): string => (positionOf(a)! > positionOf(b)! ? a : b)

/** The newest of some artifacts whose position is not after the given one; undefined when there is none. */
export function newestAtPosition<A extends { to: string; at: Date }>(artifacts: Iterable<A>, position: bigint): A | undefined {
  let newest: A | undefined
  for (const artifact of artifacts) {
    const reached = positionOf(artifact.to)
    if (reached !== undefined && reached <= position && (!newest || artifact.at > newest.at)) newest = artifact
  }
  return newest
}

/** Of members whose source has no log, such as a cluster's namespaces; their artifacts are ordered by time alone. */
export const NOWHERE = '0/0'
