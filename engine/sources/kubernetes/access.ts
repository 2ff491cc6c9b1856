import { parse } from 'yaml'
import { isFields, type Fields } from '../../../core/cluster/pods'
import { VesselError } from '../../../core/errors'

/** How a cluster is reached; the token or the key is kept apart, sealed. */
export interface ClusterSettings {
  /** Address of its API, such as `https://pier.ferries.example:6443`. */
  server: string
  /** Certificate authority in PEM; null for those that this machine trusts. */
  authority: string | null
  /** Whether its certificate is not verified at all. */
  unverified: boolean
  /** The name in the certificate, where it is not that of the address. */
  serverName?: string
  /** Who is signed in, as far as the kubeconfig tells. */
  user: string
  /** Image of the pods that read and fill volumes, where the usual one can't be pulled. */
  readerImage?: string
}

/** What signs in: a token, or a certificate of a client with its key in PEM. */
export type ClusterSecret = { token: string } | { certificate: string; key: string }

export interface ClusterAccess {
  /** The source's name, for messages. */
  name: string
  settings: ClusterSettings
  secret: ClusterSecret
}

const bad = (what: string, next: string, cause?: unknown) =>
  new VesselError('kubeconfig', { what, touched: 'Nothing was tried or saved.', next, cause })

const ONLY_DATA = 'Paste one in which everything is written out, as `kubectl config view --raw --flatten --minify` prints it.'

/**
 * Reads a kubeconfig, the current context of it or the named one. Nothing that it points to is opened and no program
 * that it names is run: both would be this server's, not the person's.
 * @throws VesselError `kubeconfig` saying what is missing
 */
export function readKubeconfig(text: string, context?: string): Pick<ClusterAccess, 'settings' | 'secret'> {
  const config = parsed(text)
  const contexts = named(config.contexts, 'context')
  const wanted = context || textIn(config, 'current-context')
  const chosen = contexts.get(wanted)
  if (!chosen) {
    const has = [...contexts.keys()].join(', ')
    throw bad(`The kubeconfig has no context ${wanted || 'that is current'}.`, has ? `Choose one of: ${has}.` : ONLY_DATA)
  }
  const cluster = named(config.clusters, 'cluster').get(textIn(chosen, 'cluster'))
  const user = named(config.users, 'user').get(textIn(chosen, 'user'))
  if (!cluster || !user) throw bad(`The context ${wanted} names a cluster or a user that is not in it.`, ONLY_DATA)
  if (cluster['certificate-authority'] || user['client-certificate'] || user['client-key'] || user.tokenFile)
    throw bad('The kubeconfig points to files on your machine.', ONLY_DATA)
  return {
    settings: {
      server: textIn(cluster, 'server'),
      authority: decoded(cluster['certificate-authority-data']),
      unverified: cluster['insecure-skip-tls-verify'] === true,
      ...(cluster['tls-server-name'] ? { serverName: String(cluster['tls-server-name']) } : {}),
      user: textIn(chosen, 'user'),
    },
    secret: secretOf(user),
  }
}

const textIn = (fields: Fields, name: string): string => (typeof fields[name] === 'string' ? fields[name] : '')

function parsed(text: string): Fields {
  try {
    const config: unknown = parse(text)
    return isFields(config) ? config : {}
  } catch (cause) {
    throw bad('The kubeconfig can’t be read: it is not YAML.', ONLY_DATA, cause)
  }
}

/** The entries of a list of a kubeconfig, by their names; what has another form is not there. */
const named = (list: unknown, field: string): Map<string, Fields> =>
  new Map(
    (Array.isArray(list) ? list : []).flatMap((entry: unknown) =>
      isFields(entry) && typeof entry.name === 'string' && isFields(entry[field]) ? [[entry.name, entry[field]] as const] : [],
    ),
  )

function decoded(value: unknown): string | null {
  return typeof value === 'string' ? Buffer.from(value, 'base64').toString() : null
}

function secretOf(user: Fields): ClusterSecret {
  if (typeof user.token === 'string') return { token: user.token }
  const [certificate, key] = [decoded(user['client-certificate-data']), decoded(user['client-key-data'])]
  if (certificate && key) return { certificate, key }
  if (user.exec || user['auth-provider'])
    throw bad(
      'The user of this context signs in with a program on your machine.',
      'Make a service account for Unbroken Vessel, and give its token: kubectl create token <name> --duration=8760h.',
    )
  throw bad('The user of this context has neither a token nor a certificate.', 'Give a token instead.')
}
