export type Json = null | boolean | number | string | Json[] | { [name: string]: Json }
export type Places = Record<'db' | 'pier', string>
export interface RightRequest {
  route: string
  address: string
  body?: { [name: string]: Json }
}

export const takes = (kind: string, pattern: string) => ({
  rules: [{ id: 'a', act: 'take', kind, pattern }],
  store: 'dry-dock',
  promises: { couldLose: null, backWithin: null },
  readers: 1,
})
export const access = (port: number) => ({ host: '127.0.0.1', port, user: 'postgres', database: 'postgres', tls: 'off' })

const NOWHERE = '00000000-0000-4000-8000-000000000000'

/** A request that is right, for every route that takes a body: of a table of a database, and of a namespace of a cluster. */
export function rightRequests(sources: Places, points: Places, port: number): RightRequest[] {
  const wish = (name: 'db' | 'pier', more: { [name: string]: Json }) => ({
    picks: [name === 'db' ? 'db/odd_data/public/item' : 'pier/desk'],
    into: { mode: 'original' },
    ...more,
  })
  const rows = {
    rows: { 'db/odd_data/public/item': { keys: [['1']], overwrite: ['note'] } },
    each: { a: 'skip' },
    roles: { a: 'b' },
    without: ['a'],
  }
  const namespaces = {
    namespaces: { desk: 'desk-2' },
    classes: { a: 'b' },
    labels: { a: 'b' },
    registries: { a: 'b' },
    changes: [{ kind: 'ConfigMap', name: 'lanes', patch: [{ op: 'add', path: '/data/b', value: 'c' }] }],
    exposure: 'unplug',
    atRest: true,
    files: { 'pier/desk/data': ['a'] },
    after: [{ name: 'a', act: { kind: 'http', method: 'GET', url: 'http://127.0.0.1:9/', body: '' }, limitMs: 1000 }],
    readyWithinMs: 1000,
  }
  const quiesce = {
    steps: [
      {
        id: 'a',
        name: 'a',
        member: 'db/odd_data',
        turn: 0,
        act: { kind: 'sql', statement: 'select 1' },
        limitMs: 1000,
        onFailure: 'stop',
        release: { kind: 'program', program: 'a', arguments: ['b'] },
      },
    ],
    budgetMs: 5000,
    reads: [{ volume: 'pier/desk/a', folder: 'b' }],
  }
  const log = {
    follow: false,
    everySeconds: 10,
    segmentBytes: 1_000_000,
    keepAtMost: 1_000_000_000,
    structure: 'compare',
    audit: { megabytesPerSecond: 1, hours: { from: 1, to: 2 } },
  }
  const [{ rules }] = [takes('database', 'db/odd_data')]
  const cycle = { kind: 'cycle', points: 7, first: 'full', rest: 'incremental' }
  const window = { minutes: 60, spread: true, close: 'stop' }
  const line = (id: string, times: object, makes: object = cycle) => ({ id, name: id, times, makes, window })
  const days = (on: object) => ({ kind: 'days', at: ['02:00'], on })
  const schedule = {
    zone: 'Europe/Berlin',
    from: '2099-01-01T00:00:00Z',
    meanwhile: 'wait',
    lines: [
      line('a', { kind: 'every', count: 6, unit: 'hours' }, { kind: 'each', what: 'full' }),
      line('b', { kind: 'cron', expression: '0 2 * * *' }),
      line('d', days({ of: 'week', days: [1, 7] })),
      line('e', days({ of: 'month', day: 31 })),
      line('f', days({ of: 'weekday of month', which: 'last', weekday: 5 })),
    ],
  }
  const retention = {
    rules: [
      { kind: 'last', points: 3 },
      { kind: 'all', count: 2, unit: 'hours' },
      { kind: 'calendar', each: 'week', count: 4 },
    ],
    atLeast: 1,
    logHours: 24,
    byHandDays: 7,
    gone: { automaticDays: 90, byHandDays: 365 },
  }
  const whole = { ...takes('database', 'db/odd_data'), log, quiesce, partly: 'keep' }
  const all: [route: string, address: string, body: object][] = [
    ['POST /api/stores', '/api/stores', { name: 'other', path: '/proc/1/other', key: 'a'.repeat(64) }],
    ['POST /api/stores/check', '/api/stores/check', { path: '/proc/1/other' }],
    ['POST /api/stores/[id]/runs', `/api/stores/${NOWHERE}/runs`, { kind: 'prune', dry: true }],
    ['PUT /api/stores/[id]/prune', `/api/stores/${NOWHERE}/prune`, { times: { zone: 'UTC', at: '04:30' } }],
    ['PUT /api/stores/[id]/price', `/api/stores/${NOWHERE}/price`, { price: { perGbMonth: 1, perGbRead: 0 } }],
    ['PUT /api/stores/[id]/at-once', `/api/stores/${NOWHERE}/at-once`, { atOnce: 1 }],
    ['PUT /api/sources/[id]/at-once', `/api/sources/${NOWHERE}/at-once`, { atOnce: 1 }],
    ['PUT /api/stores/[id]/name', `/api/stores/${NOWHERE}/name`, { name: 'a' }],
    ['POST /api/stores/[id]/deletion', `/api/stores/${NOWHERE}/deletion`, { reason: 'a', points: 0, erase: false }],
    ['POST /api/sources/[id]/deletion', `/api/sources/${NOWHERE}/deletion`, { reason: 'a' }],
    ['PUT /api/vessels/[slug]/name', '/api/vessels/nowhere/name', { name: 'a' }],
    ['POST /api/vessels/[slug]/deletion', '/api/vessels/nowhere/deletion', { reason: 'a' }],
    [
      'POST /api/vessels/[slug]/log-deletion',
      '/api/vessels/nowhere/log-deletion',
      { reason: 'a', from: '2099-01-01T00:00:00Z', to: '2099-01-01T00:00:00Z', segments: 1 },
    ],
    ['PUT /api/default-plan', '/api/default-plan', { schedule: { ...schedule, lines: [] }, retention }],
    ['POST /api/pause', '/api/pause', { reason: 'a', until: '2001-01-01T00:00:00Z' }],
    ['POST /api/sources/[id]/pause', `/api/sources/${NOWHERE}/pause`, { reason: 'a', until: '2099-01-01T00:00:00Z' }],
    ['PUT /api/sources/[id]/quiet', `/api/sources/${NOWHERE}/quiet`, { times: [{ zone: 'UTC', from: '08:00', to: '18:00', days: [1] }] }],
    ['POST /api/readiness', '/api/readiness', { rules, log, vessel: 'db' }],
    ['POST /api/selection', '/api/selection', { rules, vessel: 'db', than: rules }],
    ['POST /api/selection/explain', '/api/selection/explain', { rules, rule: 'a' }],
    ['POST /api/sources', '/api/sources', { name: 'again', settings: { ...access(port), authority: 'x' }, password: 'x' }],
    [
      'POST /api/sources/probe',
      '/api/sources/probe',
      { cluster: { server: 'https://127.0.0.1:9', token: 'x', authority: 'x', unverified: true }, context: 'a', readerImage: 'b' },
    ],
    ['POST /api/sources/[id]/reach', `/api/sources/${sources.db}/reach`, { settings: access(port), password: 'x' }],
    [
      'PUT /api/sources/[id]/reach',
      `/api/sources/${sources.pier}/reach`,
      { connection: 'postgresql://a:b@127.0.0.1:9/c', replaces: false },
    ],
    ['POST /api/vessels', '/api/vessels', { name: 'Nothing', definition: { ...whole, schedule, retention, rules: [] } }],
    ['PUT /api/vessels/[slug]/definition', '/api/vessels/db/definition', { basedOn: 99, definition: whole }],
    ['POST /api/vessels/[slug]/pause', '/api/vessels/nowhere/pause', { reason: 'a', until: '2099-01-01T00:00:00Z' }],
    ['POST /api/vessels/[slug]/quiesce', '/api/vessels/nowhere/quiesce', quiesce],
    ['POST /api/vessels/[slug]/runs', '/api/vessels/nowhere/runs', { kind: 'audit', what: 'full', name: 'a', comment: 'b', keepDays: 7 }],
    [
      'POST /api/vessels/[slug]/restores',
      '/api/vessels/nowhere/restores',
      { name: 'a', wish: wish('db', {}), reason: 'b', begins: { which: 'named', point: points.db } },
    ],
    [
      'POST /api/vessels/[slug]/undo',
      '/api/vessels/db/undo',
      { transaction: { member: 'db/odd_data', position: '0/1', end: '0/2' }, choices: { a: { b: 'undo' } }, reason: '' },
    ],
    ['POST /api/points/[id]/pin', `/api/points/${NOWHERE}/pin`, { reason: 'a', until: '2099-01-01T00:00:00Z' }],
    ['POST /api/points/[id]/deletion', `/api/points/${NOWHERE}/deletion`, { reason: 'a', points: [points.db] }],
    ['POST /api/points/[id]/plan', `/api/points/${points.db}/plan`, wish('db', rows)],
    [
      'POST /api/points/[id]/plan',
      `/api/points/${points.db}/plan`,
      wish('db', { into: { mode: 'beside', schema: 'a', prefix: 'b', suffix: 'c', names: { d: 'e' } } }),
    ],
    [
      'POST /api/points/[id]/plan',
      `/api/points/${points.db}/plan`,
      wish('db', { into: { mode: 'elsewhere', source: 'db', database: 'odd' } }),
    ],
    ['POST /api/points/[id]/plan', `/api/points/${points.pier}/plan`, wish('pier', { cluster: namespaces })],
    [
      'POST /api/points/[id]/restore',
      `/api/points/${points.db}/restore`,
      { wish: wish('db', {}), reason: null, rehearsal: false, agreed: 'x', saved: points.db, asItIs: true },
    ],
    ['POST /api/choices', '/api/choices', { of: 'restore', wish: wish('db', rows) }],
    ['POST /api/choices', '/api/choices', { of: 'files', files: ['november/days'] }],
    ['POST /api/holds/release', '/api/holds/release', { run: points.db }],
    ['POST /api/losses/meant', '/api/losses/meant', { key: 'gone nowhere' }],
    ['POST /api/runs/[id]/take-back', `/api/runs/${points.db}/take-back`, { reason: 'a' }],
  ]
  return all.map(([route, address, body]) => ({ route, address, body: body as RightRequest['body'] }))
}
