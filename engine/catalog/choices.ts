import { createHash } from 'node:crypto'
import { sql } from 'kysely'
import { VesselError } from '../../core/errors'
import type { Choice } from '../../core/restore/choice'
import type { EngineContext } from '../context'

const KEPT_FOR_DAYS = 180
const NAME_LENGTH = 16

/** Keeps what a person chose under a short name; the same choice has the same name. Links are good for half a year after their last use. */
export async function keepChoice({ db }: EngineContext, choice: Choice): Promise<string> {
  const text = JSON.stringify(choice)
  const id = createHash('sha256').update(text).digest('base64url').slice(0, NAME_LENGTH)
  await db
    .deleteFrom('kept_choice')
    .where('used_at', '<', sql<Date>`now() - make_interval(days => ${KEPT_FOR_DAYS})`)
    .execute()
  await db
    .insertInto('kept_choice')
    .values({ id, choice: text, used_at: sql`now()` })
    .onConflict((conflict) => conflict.column('id').doUpdateSet({ used_at: sql`now()` }))
    .execute()
  return id
}

/** @throws VesselError `choice_missing` */
export async function keptChoice<Of extends Choice['of']>({ db }: EngineContext, id: string, of: Of): Promise<Choice & { of: Of }> {
  const row = await db
    .updateTable('kept_choice')
    .set({ used_at: sql`now()` })
    .where('id', '=', id)
    .returning('choice')
    .executeTakeFirst()
  if (row?.choice.of === of) return row.choice as Choice & { of: Of }
  throw new VesselError('choice_missing', {
    what: 'What this link had chosen is not kept any more.',
    touched: 'Nothing was changed.',
    next: 'Choose it once more.',
    status: 404,
  })
}
