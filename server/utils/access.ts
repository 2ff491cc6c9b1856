import type * as v from 'valibot'
import { VesselError } from '../../core/errors'
import { readConnectionString, type PostgresAccess } from '../../engine/sources/postgres/connect'
import type { NewSource } from './schemas'

/** How to reach a server, from either form in which a person may give it. */
export function accessFrom({ name, settings, password, connection }: v.InferOutput<typeof NewSource>): PostgresAccess {
  if (connection) return { name: name || 'The server', ...readConnectionString(connection) }
  if (settings) return { name: name || 'The server', settings, password }
  throw new VesselError('bad_request', {
    what: 'Neither an address nor a connection string is given.',
    touched: 'Nothing was tried or saved.',
    next: 'Give one of them.',
    status: 400,
  })
}
