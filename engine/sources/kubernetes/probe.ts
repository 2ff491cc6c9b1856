import { errorRecord } from '../../../core/errors'
import { countInWords } from '../../../core/time/words'
import type { ProbeFinding, ProbeReport } from '../source'
import { ApiFailure, type ApiResource, type ClusterClient } from './client'
import { thingKinds } from './kinds'
import type { Right } from '../../../core/cluster/rights'
import { rightsOf, roleManifest, whoami } from './rights'
import { SNAPSHOT_GROUP, snapshotDrivers } from './storage'

/** What is done with a cluster, the rights that it takes, and what can't be done without. */
interface Need {
  id: string
  title: string
  rights: Right[]
  /** Nothing at all can be done without it. */
  required?: boolean
  yes: string
  no: string
}

const of = (group: string, resource: string, ...verbs: string[]): Right[] => verbs.map((verb) => ({ verb, group, resource }))

const NEEDS: Need[] = [
  {
    id: 'namespaces',
    title: 'Right to look',
    rights: of('', 'namespaces', 'get', 'list', 'watch'),
    required: true,
    yes: 'Its namespaces can be listed and watched.',
    no: 'Its namespaces can’t be listed and watched.',
  },
  {
    id: 'secrets',
    title: 'Secrets',
    rights: of('', 'secrets', 'get', 'list'),
    yes: 'Secrets can be read; rules may leave them.',
    no: 'Secrets can’t be read, so they are in no backup.',
  },
  {
    id: 'readers',
    title: 'Reader pods',
    rights: [...of('', 'pods', 'get', 'list', 'create', 'delete'), ...of('', 'pods/exec', 'create')],
    yes: 'Volumes can be read by a pod that is there for as long as it reads.',
    no: 'Volumes can’t be read: that takes a pod and running a command in it.',
  },
  {
    id: 'hooks',
    title: 'Running commands',
    rights: of('', 'pods/exec', 'create'),
    yes: 'Applications can be quiesced by commands in their containers.',
    no: 'No command can be run in a container, so nothing can be quiesced by one.',
  },
  {
    id: 'scale',
    title: 'Scaling',
    rights: [...of('apps', 'deployments/scale', 'get', 'patch'), ...of('apps', 'statefulsets/scale', 'get', 'patch')],
    yes: 'Workloads can be scaled down around a backup or a return.',
    no: 'Workloads can’t be scaled down, neither for a backup nor around their volumes in a return.',
  },
  {
    id: 'write',
    title: 'Right to restore',
    rights: of('*', '*', 'create', 'patch', 'update', 'delete'),
    yes: 'Whatever was lost can be made again.',
    no: 'Nothing can be restored into this cluster.',
  },
]

const SNAPSHOTS: Need = {
  id: 'snapshots',
  title: 'Volume snapshots',
  rights: of(SNAPSHOT_GROUP, 'volumesnapshots', 'get', 'list', 'create', 'patch', 'delete'),
  yes: 'Snapshots can be taken, which end a hold early.',
  no: 'Snapshots can’t be taken: holds last for as long as volumes are read.',
}

const ok = (id: string, title: string, detail: string): ProbeFinding => ({ id, title, outcome: 'ok', detail, mend: null })

/** Tests everything that backups and returns need, one by one; what is missing comes with the role that grants it. */
export async function probe(client: ClusterClient, now: Date): Promise<ProbeReport> {
  const findings: ProbeFinding[] = []
  const report = (server: ProbeReport['server']): ProbeReport => ({
    at: now.toISOString(),
    server,
    findings,
    usable: findings.every(({ outcome }) => outcome !== 'missing'),
  })
  try {
    const { gitVersion } = await client.ask<{ gitVersion: string }>('/version')
    findings.push(ok('reachable', 'Reachable', `${client.access.settings.server} answers, version ${gitVersion}.`))
    findings.push(tlsFinding(client))
    const resources = await client.resources()
    findings.push(ok('signed-in', 'Signed in', `It serves ${countInWords(resources.length)} kinds of things.`))
    const user = (await whoami(client, resources)) ?? client.access.settings.user
    const served = resources.some(({ plural }) => plural === 'volumesnapshots')
    for (const need of served ? [...NEEDS, SNAPSHOTS] : NEEDS) findings.push(await needFinding(client, need, user))
    findings.push(await readFinding(client, thingKinds(resources), user))
    findings.push(await storageFinding(client, resources, served))
    return report({ version: gitVersion, versionNumber: 0, systemId: await clusterId(client) })
  } catch (error) {
    const { what, next } = errorRecord(client.translate(error))
    const step = findings.length === 0 ? { id: 'reachable', title: 'Reachable' } : { id: 'signed-in', title: 'Signed in' }
    findings.push({ ...step, outcome: 'missing', detail: what, mend: next })
    return report(null)
  }
}

function tlsFinding({ access: { settings } }: ClusterClient): ProbeFinding {
  if (settings.server.startsWith('https:') && !settings.unverified) return ok('tls', 'Encrypted', 'Its certificate is verified.')
  return {
    id: 'tls',
    title: 'Encrypted',
    outcome: 'advice',
    detail: settings.unverified ? 'Its certificate is not verified.' : 'What is sent to it is not encrypted, the token included.',
    mend: 'Use an https address and give the certificate authority.',
  }
}

async function needFinding(client: ClusterClient, { id, title, rights, required, yes, no }: Need, user: string): Promise<ProbeFinding> {
  const has = await rightsOf(client, rights)
  const missing = rights.filter((_, i) => !has[i])
  if (missing.length === 0) return ok(id, title, yes)
  return { id, title, outcome: required ? 'missing' : 'advice', detail: no, mend: roleManifest(id, missing, user) }
}

/** Which kinds can't be listed; secrets have a line of their own. */
async function readFinding(client: ClusterClient, kinds: ApiResource[], user: string): Promise<ProbeFinding> {
  const wanted = kinds.filter(({ plural, group }) => !(group === '' && plural === 'secrets'))
  const rights = wanted.flatMap(({ group, plural }) => of(group, plural, 'get', 'list', 'watch'))
  const has = await rightsOf(client, rights)
  const missing = rights.filter((_, i) => !has[i])
  if (missing.length === 0)
    return ok('read', 'Right to read', `All ${countInWords(wanted.length)} kinds that applications are made of can be read.`)
  const names = [...new Set(missing.map(({ group, resource }) => (group ? `${resource}.${group}` : resource)))]
  const shown = names.length > 4 ? `${names.slice(0, 4).join(', ')} and ${countInWords(names.length - 4)} more` : names.join(', ')
  return {
    id: 'read',
    title: 'Right to read',
    outcome: 'advice',
    detail: `Not readable, so in no backup: ${shown}.`,
    mend: roleManifest('read', missing, user),
  }
}

async function storageFinding(client: ClusterClient, resources: ApiResource[], served: boolean): Promise<ProbeFinding> {
  const classes = resources.find(({ plural }) => plural === 'storageclasses')
  const [has] = classes ? await rightsOf(client, of(classes.group, classes.plural, 'list')) : [false]
  if (!has) return { id: 'storage', title: 'Storage classes', outcome: 'advice', detail: 'They can’t be listed.', mend: null }
  const drivers = served ? await snapshotDrivers(client, resources).catch(() => new Set<string>()) : new Set<string>()
  const [able, unable]: [string[], string[]] = [[], []]
  for await (const { metadata, provisioner } of client.list(classes!))
    (drivers.has(String(provisioner)) ? able : unable).push(metadata.name)
  const parts = [
    able.length > 0 ? `${able.join(', ')} can take snapshots` : '',
    unable.length > 0 ? `${unable.join(', ')} can’t, so volumes of it are read in place` : '',
  ].filter(Boolean)
  return ok('storage', 'Storage classes', parts.length > 0 ? `${parts.join('; ')}.` : 'There are none.')
}

/** What tells this cluster from another one at the same address. */
export async function clusterId(client: ClusterClient): Promise<string> {
  const home = await client.ask<{ metadata: { uid: string } }>('/api/v1/namespaces/kube-system').catch((error: unknown) => {
    if (error instanceof ApiFailure) return null
    throw error
  })
  return home?.metadata.uid ?? 'unknown'
}
