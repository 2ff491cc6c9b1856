/**
 * Whether a transaction was visible to a snapshot.
 *
 * @param xid as the log tells it: the lower 32 bits of its number
 * @param snapshot as `pg_current_snapshot()` writes it: `xmin:xmax:xip,xip…` in 64 bits
 */
export function isVisible(xid: string, snapshot: string): boolean {
  const [xmin, xmax, list] = snapshot.split(':') as [string, string, string]
  const next = BigInt(xmax)
  // Of all numbers with these lower bits it is the one next to the snapshot: others are two thousand million away.
  let full = (next & ~0xffffffffn) | BigInt(xid)
  if (full > next + 0x80000000n) full -= 0x100000000n
  else if (full < next - 0x80000000n) full += 0x100000000n
  if (full < BigInt(xmin)) return true
  if (full >= next) return false
  return !list.split(',').includes(String(full))
}
