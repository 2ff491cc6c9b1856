/**
 * Takes the rows of two sides, in whatever order they come, and keeps those that have no equal on the other side
 * yet. While both sides come in about the same order, what is kept is little more than what differs.
 */
export class RowMatcher {
  private readonly pending = { before: new Map<string, number>(), now: new Map<string, number>() }
  /** Characters that are kept. */
  size = 0
  same = 0

  add(side: 'before' | 'now', line: string): void {
    const other = this.pending[side === 'before' ? 'now' : 'before']
    const awaited = other.get(line)
    if (awaited === undefined) {
      const counts = this.pending[side]
      counts.set(line, (counts.get(line) ?? 0) + 1)
      this.size += line.length
      return
    }
    if (awaited === 1) other.delete(line)
    else other.set(line, awaited - 1)
    this.size -= line.length
    this.same++
  }

  /** Rows of a side that have no equal on the other. */
  *rest(side: 'before' | 'now'): Generator<string> {
    for (const [line, count] of this.pending[side]) for (let i = 0; i < count; i++) yield line
  }
}
