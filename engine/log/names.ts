import { createHash } from 'node:crypto'
import { OURS } from '../sources/postgres/event-triggers'

/** The slot and the publication of a member at its source: one name, which no other vessel and no other database has. */
export function nameAtSource(vesselId: string, member: string): string {
  return `${OURS}_${createHash('sha256').update(`${vesselId} ${member}`).digest('hex').slice(0, 16)}`
}
