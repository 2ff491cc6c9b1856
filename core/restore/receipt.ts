import { plural } from '../time/words'

/** What became of a thing; `compared` and `noted` tell of what was looked at, and of what is to be known, when all was there. */
export type ReceiptOutcome = 'made' | 'replaced' | 'renamed' | 'merged' | 'dropped' | 'left' | 'failed' | 'compared' | 'noted'

/** Outcomes by which a thing is there as it was at its moment, or its rows are. */
export const RESTORED: ReceiptOutcome[] = ['made', 'replaced', 'renamed', 'merged']

/** The last names of lines that tell whether all definitions of a database are as they were, or those of what was restored. */
export const AS_A_WHOLE = 'structure as a whole'
export const DEFINITIONS = 'definitions of what was restored'

/** How many things a restore brought about, and how many of them were read back and found as they were at their moment. */
export interface Proof {
  things: number
  equal: number
}

interface Line {
  path: string
  outcome: ReceiptOutcome
  equal: boolean | null
}

/** What a receipt proves: how many of its things are on it as equal, which they are where they were compared. */
export function proofOf(receipt: readonly Line[]): Proof {
  // A command that was run at the end stands at no path, and is no thing.
  const things = receipt.filter(({ path, outcome }) => RESTORED.includes(outcome) && path.includes('/'))
  return { things: things.length, equal: things.filter(({ equal }) => equal).length }
}

/** `proven equal`, `3 of 5 proven equal`, `not compared`, `none of them compared`. */
export function provenInWords({ things, equal }: Proof): string {
  if (equal === 0) return things === 1 ? 'not compared' : 'none of them compared'
  return equal === things ? 'proven equal' : `${equal} of ${things} proven equal`
}

/** `5 things`, `3 of 5 things`. */
export const provenPart = ({ things, equal }: Proof): string =>
  equal === things ? plural(things, 'thing') : `${equal} of ${plural(things, 'thing')}`
