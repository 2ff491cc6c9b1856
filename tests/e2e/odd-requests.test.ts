import { mkdtempSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest'
// @ts-expect-error a build script without types
import { apiRoutes } from '../../scripts/api-routes.mjs'
import { inParallel } from '../../engine/parallel'
import { Application } from '../support/application'
import { namespace, TestCluster } from '../support/cluster'
import { testServer } from '../support/engine'
import { rightRequests, takes, type Json, type Places, type RightRequest } from '../support/right-requests'

// Bodies and addresses that are nearly right: of each request that would be answered, every field is put wrong in every
// way, one after the other. None of it is answered with a failure of the product, and none stops it.

const DEEP = 20_000
const ODD: Json[] = [
  null,
  true,
  5,
  -1,
  0.5,
  9007199254740991,
  1e308,
  '',
  ' ',
  '5',
  'x'.repeat(300),
  `/${'x'.repeat(300)}`,
  "'; --",
  '%',
  '{',
  '[null]',
  [],
  [null],
  {},
  { a: 1 },
]
const KUBECONFIGS = [
  'contexts: 5',
  '[null]',
  '{a: b}',
  'null',
  '5',
  'contexts: [null]',
  'clusters: [5]\ncontexts: [{name: a}]\ncurrent-context: a',
  '&a [*a]',
  '!!js/function x',
  '- - -',
  '{'.repeat(300),
]
const PATCHES: Json[] = [
  [{ op: 'remove', path: '/metadata' }],
  [{ op: 'replace', path: '/kind', value: 5 }],
  [{ op: 'replace', path: '/spec', value: null }],
  [{ op: 'replace', path: '', value: null }],
  [{ op: 'remove', path: '' }],
  [{ op: 'add', path: '/metadata/labels', value: 5 }],
  [{ op: 'replace', path: '/metadata/name', value: ['a'] }],
  [{ op: 'move', path: '/metadata', from: '/data' }],
  [{ op: 'copy', path: '/a', from: '' }],
  [{ op: 'add', path: '/data/-', value: 1 }],
  [{ op: 'add', path: '/__proto__/x', value: 1 }],
]

let cluster: TestCluster
let application: Application
let points: Places
/** A request that is right, for every route that takes a body. */
let right: () => RightRequest[]

async function pointOf(slug: string): Promise<string> {
  await application.asks('POST', `/api/vessels/${slug}/runs`, { kind: 'backup' })
  return (await application.points(slug))[0]!.id
}

beforeAll(async () => {
  const folder = mkdtempSync(join(inject('folder'), 'odd-'))
  const server = testServer()
  server.psql('postgres', 'create database odd_catalog; create database odd_data')
  server.psql('odd_data', 'create table item (id int primary key, note text); insert into item values (1, null)')
  cluster = await TestCluster.start('pier')
  cluster.apply(namespace('desk'), {
    apiVersion: 'v1',
    kind: 'ConfigMap',
    metadata: { name: 'lanes', namespace: 'desk' },
    data: { a: '1' },
  })
  application = await Application.start(folder, server.url('odd_catalog'))
  const kubeconfig = readFileSync(cluster.process.kubeconfig, 'utf8')
  const db = await application.connects(folder)
  const pier = await application.asks<{ id: string }>('POST', '/api/sources', { name: 'pier', kubeconfig })
  const sources = { db, pier: pier.id }
  for (const id of Object.values(sources)) await application.asks('POST', `/api/sources/${id}/discover`)
  await application.asks('POST', '/api/vessels', { name: 'db', definition: takes('database', 'db/odd_data') })
  await application.asks('POST', '/api/vessels', { name: 'pier', definition: takes('namespace', 'pier/desk') })
  points = { db: await pointOf('db'), pier: await pointOf('pier') }
  right = () => rightRequests(sources, points, inject('port'))
})
afterAll(async () => {
  await application?.stop()
  await cluster?.process.stop()
})

/** Every place in a value, as the way there. */
function* places(value: Json, way: (string | number)[] = []): Generator<(string | number)[]> {
  yield way
  if (typeof value !== 'object' || value === null) return
  for (const [name, inner] of Object.entries(value)) yield* places(inner, [...way, Array.isArray(value) ? Number(name) : name])
}

/** A value with another one at a place, or with none there. */
function put(value: Json, [first, ...rest]: (string | number)[], other: Json | undefined): Json {
  if (first === undefined) return other ?? null
  const copy = structuredClone(value) as Record<string | number, Json>
  if (rest.length > 0) copy[first] = put(copy[first]!, rest, other)
  else if (other === undefined) delete copy[first]
  else copy[first] = other
  return copy as Json
}

interface Sent {
  method: string
  address: string
  body?: string
}

const isTold = ({ status, code }: Awaited<ReturnType<Application['send']>>) =>
  status < 400 || (status < 500 && code !== undefined) || status === 503

async function answeredWrongly(requests: Iterable<Sent>): Promise<string[]> {
  const wrong: string[] = []
  await inParallel(requests, 6, async ({ method, address, body }) => {
    const answer = await application.send(method, address, body)
    if (!isTold(answer)) wrong.push(`${method} ${address} ${(body ?? '').slice(0, 300)}: ${answer.status} ${answer.text.slice(0, 300)}`)
  })
  return wrong
}

/** Every address that only asks, with things that are there, and with one part of the question put wrong. */
function* questions(): Generator<Sent> {
  const table = 'db/odd_data/public/item'
  const asked: Record<string, string> = {
    path: table,
    vessel: 'db',
    key: '["1"]',
    keys: '[["1"]]',
    column: 'note',
    value: 'a',
    format: 'csv',
    limit: '10',
    offset: '0',
    at: '0.0',
    q: 'item',
    filter: '[]',
  }
  const names = [
    ...Object.keys(asked),
    'against',
    'file',
    'folder',
    'order',
    'after',
    'now',
    'kinds',
    'states',
    'name',
    'points',
    'before',
    'ref',
    'from',
    'to',
    'table',
    'ops',
    'xid',
    'member',
    'position',
    'end',
  ]
  const odd = [
    '',
    ' ',
    '5',
    '-1',
    'null',
    '[null]',
    '{}',
    '[["a",null]]',
    '%',
    '../..',
    "'; --",
    'x'.repeat(300),
    '2026-13-45T99:99:99Z',
    'db',
    'pier/desk',
    'public.item',
    '0/0',
    'FFFFFFFF/FFFFFFFF',
  ]
  for (const route of apiRoutes('server/api') as string[]) {
    if (!route.startsWith('GET') || route.endsWith('/events')) continue
    for (const place of ['db', 'pier'] as const) {
      const address = route
        .slice(4)
        .replace('[slug]', place)
        .replace('[id]', route.includes('/points/') ? points[place] : points.db)
      for (const name of names)
        for (const value of odd)
          yield { method: 'GET', address: `${address}?${new URLSearchParams({ ...asked, [name]: value }).toString()}` }
    }
  }
}

describe('a request that is nearly right', () => {
  it('is known for every route that takes a body', () => {
    const known = new Set(right().map(({ route }) => route))
    const all = (apiRoutes('server/api') as string[]).filter((route) => {
      const [method, path] = route.split(' ') as [string, string]
      const file = [`${path.slice(1)}.${method.toLowerCase()}.ts`, `${path.slice(1)}/index.${method.toLowerCase()}.ts`]
      return file.some((name) => readable(`server/${name}`).includes('bodyOf('))
    })
    expect(all.filter((route) => !known.has(route))).toEqual([])
    expect(all.length).toBe(known.size)
  })

  it('is answered with a reason, whatever is wrong in whichever field', async () => {
    const requests = right().flatMap(({ route, address, body }) => {
      const method = route.split(' ')[0]!
      const all = [...places(body!)].filter((way) => way.length > 0)
      return all.flatMap((way) => [undefined, ...ODD].map((odd) => ({ method, address, body: JSON.stringify(put(body!, way, odd)) })))
    })
    expect(requests.length).toBeGreaterThan(3000)
    expect(await answeredWrongly(requests)).toEqual([])
  })

  it('is answered with a reason, when it is a cluster’s configuration, or changes of its objects, that make no sense', async () => {
    const ask = (body: object) => ({ method: 'POST', address: '/api/sources/probe', body: JSON.stringify(body) })
    const plan = right().find(({ address }) => address.includes(points.pier))!
    const patched = PATCHES.map((patch) => ({
      method: 'POST',
      address: plan.address,
      body: JSON.stringify(put(plan.body!, ['cluster', 'changes', 0, 'patch'], patch)),
    }))
    expect(await answeredWrongly([...KUBECONFIGS.map((kubeconfig) => ask({ kubeconfig })), ...patched])).toEqual([])
  })

  it('is answered with a reason, however deep it is', async () => {
    const text = JSON.stringify('deep')
    const nested = `${'['.repeat(DEEP)}${']'.repeat(DEEP)}`
    const requests = right().map(({ route, address, body }) => ({
      method: route.split(' ')[0]!,
      address,
      body: JSON.stringify({ ...body, [Object.keys(body!)[0]!]: 'deep' }).replace(text, nested),
    }))
    const plan = right().find(({ address }) => address.includes(points.pier))!
    const patch = JSON.stringify(put(plan.body!, ['cluster', 'changes', 0, 'patch', 0, 'value'], 'deep')).replace(text, nested)
    expect(await answeredWrongly([...requests, { method: 'POST', address: plan.address, body: patch }])).toEqual([])
  })

  it('is answered with a reason, when it only asks', async () => {
    const all = [...questions()]
    // Every thirteenth, another one of each address: together they are too many.
    const some = all.filter((_, i) => i % 13 === 0)
    expect(some.length).toBeGreaterThan(1000)
    expect(await answeredWrongly(some)).toEqual([])
  })

  it('leaves the product at work, and nothing changed', async () => {
    expect((await application.asks<unknown[]>('GET', '/api/vessels')).length).toBe(2)
    expect((await application.send('GET', '/api/watch')).status).toBe(200)
    expect(readFileSync(application.log, 'utf8')).not.toMatch(/Unhandled|internal/i)
  })
})

function readable(file: string): string {
  try {
    return readFileSync(file, 'utf8')
  } catch {
    return ''
  }
}
