import type { SourceView } from '~~/server/views'

/** Where the name of a source's kind, and each way to reach it, stands in the form. */
const empty = () => ({
  kind: 'postgres' as SourceView['kind'],
  postgresWay: 'parts' as 'parts' | 'string',
  clusterWay: 'kubeconfig' as 'kubeconfig' | 'token',
  name: '',
  host: '',
  port: 5432,
  user: '',
  password: '',
  database: 'postgres',
  tls: 'off' as 'off' | 'required' | 'verified',
  authority: '',
  connection: '',
  kubeconfig: '',
  context: '',
  server: '',
  token: '',
  readerImage: '',
})
export type SourceForm = ReturnType<typeof empty>

/** What a person says of how to reach a source, a new one or one that is there, and the body of a request that says so. */
export function useSourceForm(source: () => SourceView | null) {
  const form = reactive(empty())
  /** Begins anew, with what is known of a source: all but what signs in. */
  function begin(): void {
    const known = source()
    Object.assign(form, empty())
    if (!known) return
    const { authority, ...settings } = known.settings
    Object.assign(form, { ...settings, authority: authority ?? '', name: known.name, kind: known.kind, clusterWay: 'token' })
  }
  const body = computed(() => ({
    ...(source() ? {} : { name: form.name }),
    ...(form.kind === 'postgres' ? postgresBody(form) : clusterBody(form)),
  }))
  return { form, body, begin }
}

function postgresBody({ postgresWay, connection, password, ...form }: SourceForm) {
  if (postgresWay === 'string') return { connection }
  const { host, port, user, database, tls, authority } = form
  return {
    password,
    settings: { host, port: Number(port), user, database, tls, ...(tls === 'verified' && authority ? { authority } : {}) },
  }
}

function clusterBody({ clusterWay, kubeconfig, context, server, token, authority, readerImage }: SourceForm) {
  const image = readerImage ? { readerImage } : {}
  if (clusterWay === 'token') return { cluster: { server, token, authority }, ...image }
  return { kubeconfig, ...(context ? { context } : {}), ...image }
}
