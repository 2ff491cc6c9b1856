import type * as v from 'valibot'
import { VesselError } from '../../core/errors'
import type { Reach } from '../../engine/catalog/source-access'
import type { NewSource as Source } from '../../engine/catalog/sources'
import { readKubeconfig, type ClusterSettings } from '../../engine/sources/kubernetes/access'
import { readConnectionString, type PostgresSettings } from '../../engine/sources/postgres/connect'
import type { Access, TriedSource } from '../../core/asked'

/**
 * How to reach a source, from any form in which a person may give it.
 * @param before how it was reached so far; what is not asked for stays where the address does
 */
export function reachFrom(
  { settings, password, connection, cluster, kubeconfig, context, readerImage }: v.InferOutput<typeof Access>,
  before?: PostgresSettings | ClusterSettings,
): Reach {
  const image = readerImage ? { readerImage } : {}
  if (kubeconfig) {
    const { settings: read, secret } = readKubeconfig(kubeconfig, context)
    return { settings: { ...read, ...image }, secret }
  }
  if (cluster) {
    const { server, token, authority, unverified } = cluster
    const { readerImage: _, ...kept } =
      before && 'server' in before && before.server === server ? before : { unverified: false, user: 'the token’s' }
    return {
      settings: {
        ...kept,
        server,
        authority: authority || null,
        ...(unverified === undefined ? {} : { unverified }),
        ...(token ? { user: 'the token’s' } : {}),
        ...image,
      },
      secret: token ? { token } : null,
    }
  }
  if (connection) {
    const read = readConnectionString(connection)
    return { ...read, password: read.password || null }
  }
  if (settings) return { settings, password: password || null }
  throw bad('Neither an address nor a connection string is given.', 'Give one of them.')
}

/** A source that is new, of which nothing is kept. */
export function sourceFrom(body: v.InferOutput<typeof TriedSource>): Source {
  const reach = reachFrom(body)
  if ('password' in reach) return { name: body.name || 'The server', ...reach, password: reach.password ?? '' }
  const { settings, secret } = reach
  if (secret === null) throw bad('The token is missing.', 'Give it.')
  return { name: body.name || 'The cluster', settings, secret }
}

const bad = (what: string, next: string) =>
  new VesselError('bad_request', { what, touched: 'Nothing was tried or saved.', next, status: 400 })
