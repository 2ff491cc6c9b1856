import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { parseArgs } from 'node:util'
import { generate } from 'selfsigned'
import { stringify } from 'yaml'
import { Cluster } from './cluster'
import { serve, type Tokens } from './server'

// A small cluster for demos and tests: `node dist/cluster.mjs --name pier --folder … --port …`. It listens on
// loopback only, and writes a kubeconfig for its administrator into its folder.

const FOREVER = 8.64e15

const { values } = parseArgs({
  options: {
    name: { type: 'string', default: 'cluster' },
    folder: { type: 'string' },
    port: { type: 'string', default: '0' },
    nodes: { type: 'string', default: '1' },
    /** API groups that it does not have, parted by commas. */
    without: { type: 'string', default: '' },
    token: { type: 'string', default: 'administrator of the stand-in' },
    /** Further users, as `token=name`, whose rights are those that roles give them. */
    user: { type: 'string', multiple: true, default: [] },
  },
})
if (!values.folder) throw new Error('--folder is needed')

const cluster = new Cluster({
  name: values.name,
  folder: values.folder,
  nodes: Number(values.nodes),
  without: values.without.split(',').filter(Boolean),
  version: 'v1.30.0',
})
const tokens: Tokens = new Map([[values.token, { name: 'administrator', groups: ['system:masters'], until: FOREVER }]])
for (const user of values.user) {
  const cut = user.indexOf('=')
  tokens.set(user.slice(0, cut), { name: user.slice(cut + 1), groups: ['system:authenticated'], until: FOREVER })
}

const identity = await identityIn(values.folder)
const server = serve(cluster, tokens, identity)
server.listen(Number(values.port), '127.0.0.1', () => {
  const { port } = server.address() as { port: number }
  mkdirSync(values.folder!, { recursive: true })
  writeFileSync(join(values.folder!, 'kubeconfig'), kubeconfig(values.name, port, values.token), { mode: 0o600 })
  console.log(`Cluster ${values.name} listens on https://127.0.0.1:${port}`)
  process.send?.({ port })
})

/** Clients send tokens over TLS only; the certificate is its own authority. */
async function identityIn(folder: string): Promise<{ cert: string; key: string }> {
  mkdirSync(folder, { recursive: true })
  const [certFile, keyFile] = ['cluster.crt', 'cluster.key'].map((name) => join(folder, name)) as [string, string]
  if (!existsSync(certFile)) {
    const { cert, private: key } = await generate([{ name: 'commonName', value: 'stand-in cluster' }], {
      keySize: 2048,
      notAfterDate: new Date(Date.now() + 10 * 365 * 86_400_000),
      extensions: [
        { name: 'basicConstraints', cA: true },
        {
          name: 'subjectAltName',
          altNames: [
            { type: 7, ip: '127.0.0.1' },
            { type: 2, value: 'localhost' },
          ],
        },
      ],
    })
    writeFileSync(certFile, cert)
    writeFileSync(keyFile, key, { mode: 0o600 })
  }
  return { cert: readFileSync(certFile, 'utf8'), key: readFileSync(keyFile, 'utf8') }
}

function kubeconfig(name: string, port: number, token: string): string {
  return stringify({
    apiVersion: 'v1',
    kind: 'Config',
    clusters: [
      {
        name,
        cluster: { server: `https://127.0.0.1:${port}`, 'certificate-authority-data': Buffer.from(identity.cert).toString('base64') },
      },
    ],
    users: [{ name: 'administrator', user: { token } }],
    contexts: [{ name, context: { cluster: name, user: 'administrator' } }],
    'current-context': name,
  })
}

// Tests let tokens expire: `{ expire: token }`.
process.on('message', (message: { expire?: string }) => {
  const user = message.expire === undefined ? undefined : tokens.get(message.expire)
  if (user) user.until = 0
})

let ending = false
async function end(): Promise<void> {
  if (ending) return
  ending = true
  server.closeAllConnections()
  server.close()
  await cluster.close()
  process.exit(0)
}
for (const signal of ['SIGINT', 'SIGTERM'] as const) process.on(signal, () => void end())
process.on('disconnect', () => void end())
