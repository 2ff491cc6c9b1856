import { VesselError } from '../../core/errors'
import { ddlOf, entriesOf } from '../../core/look/ddl'
import type { EngineContext } from '../context'
import { noRows, openPoint } from '../points/open'

/** The statements that make a thing of a point, with all that belongs to it. */
export async function ddlAt(engine: EngineContext, pointId: string, path: string): Promise<{ sql: string }> {
  const { members } = await openPoint(engine, pointId, noRows)
  for (const { manifest } of members) {
    for (const database of manifest.databases) {
      const entries = entriesOf(database, path)
      if (entries.length === 0) continue
      const { before, after } = ddlOf(entries)
      return { sql: [before, after].filter(Boolean).join('\n\n') }
    }
  }
  throw new VesselError('not_in_point', {
    what: `How ${path} is made is not in this point.`,
    touched: 'Nothing was changed.',
    next: 'Choose something of its tree.',
    status: 404,
  })
}
