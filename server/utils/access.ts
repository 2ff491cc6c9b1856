import type * as v from 'valibot'
import { VesselError } from '../../core/errors'
import type { NewSource as Source } from '../../engine/catalog/sources'
import { readKubeconfig } from '../../engine/sources/kubernetes/access'
import { readConnectionString } from '../../engine/sources/postgres/connect'
import type { NewSource } from './schemas'

/** How to reach a source, from any form in which a person may give it. */
export function sourceFrom({
  name,
  settings,
  password,
  connection,
  cluster,
  kubeconfig,
  context,
}: v.InferOutput<typeof NewSource>): Source {
  if (kubeconfig) return { name: name || 'The cluster', ...readKubeconfig(kubeconfig, context) }
  if (cluster) {
    const { server, token, authority, unverified } = cluster
    return {
      name: name || 'The cluster',
      settings: { server, authority: authority || null, unverified, user: 'the token’s' },
      secret: { token },
    }
  }
  if (connection) return { name: name || 'The server', ...readConnectionString(connection) }
  if (settings) return { name: name || 'The server', settings, password }
  throw new VesselError('bad_request', {
    what: 'Neither an address nor a connection string is given.',
    touched: 'Nothing was tried or saved.',
    next: 'Give one of them.',
    status: 400,
  })
}
