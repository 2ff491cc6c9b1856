import { randomUUID } from 'node:crypto'
import { request } from 'node:http'
import { describe, expect, inject, it } from 'vitest'
// @ts-expect-error a build script without types
import { apiRoutes } from '../../scripts/api-routes.mjs'

// What is asked wrongly is answered with a status 4xx and a stable code, and changes nothing.

interface Answer {
  status: number
  body: { data?: { code: string; touched: string } } & Record<string, unknown>
}

function ask(method: string, path: string, body?: unknown, headers: Record<string, string> = {}): Promise<Answer> {
  const { hostname, port } = new URL(inject('url'))
  return new Promise((resolve, reject) => {
    const sent = request({ hostname, port, path, method, headers: { 'content-type': 'application/json', ...headers } }, (answer) => {
      let text = ''
      answer.on('data', (part) => (text += part))
      answer.on('end', () => resolve({ status: answer.statusCode!, body: text ? bodyOf(text) : {} }))
    })
    sent.on('error', reject)
    sent.end(body === undefined ? undefined : typeof body === 'string' || Buffer.isBuffer(body) ? body : JSON.stringify(body))
  })
}

/** Files that are exported are no JSON. */
function bodyOf(text: string): Answer['body'] {
  try {
    return JSON.parse(text) as Answer['body']
  } catch {
    return { text }
  }
}

/** Every route, as its file names it. */
const ALL: { method: string; path: string }[] = apiRoutes('server/api').map((route: string) => {
  const [method, path] = route.split(' ')
  return { method, path }
})
/** The stream of changes ends never. */
const ROUTES = ALL.filter(({ path }) => path !== '/api/events')
const ODD = [
  '',
  ' ',
  '%',
  '\0',
  'a\0b',
  '../../etc/passwd',
  "'; select 1; --",
  '\\',
  '💥',
  'x'.repeat(3000),
  '-1',
  '1e309',
  'null',
  '__proto__',
]
const ODD_ADDRESSES = ['%', '%zz', '%00', '%ED%A0%80', '..%2F..', randomUUID(), 'bookings~t1~ferry-db', 'bookings~p0-0~nowhere']
const NAMES =
  'path against q file folder order offset limit filter after format keys now vessel kinds states at id name points column value before ref from to table ops xid member position end'.split(
    ' ',
  )
const BODIES = [
  '',
  'null',
  '[]',
  '"x"',
  '{"a":',
  '{"rules":[{"pattern":"\\u0000"}]}',
  '{"name":"\\ud800","wish":{"picks":["\\u0000"]}}',
  '{"run":"\\u0000"}',
]

const code = ({ status, body }: Answer) => [status, body.data?.code]
const definition = { rules: [], store: 'dry-dock', promises: { couldLose: null, backWithin: null }, readers: 2 }

describe('a request', () => {
  it('with a malformed id, or for what is not there, is told so', async () => {
    expect(code(await ask('GET', '/api/runs/not-an-id'))).toEqual([400, 'bad_request'])
    expect(code(await ask('GET', `/api/runs/${randomUUID()}`))).toEqual([404, 'run_missing'])
    expect(code(await ask('GET', '/api/vessels/nowhere'))).toEqual([404, 'vessel_missing'])
    expect(code(await ask('GET', `/api/points/${randomUUID()}`))).toEqual([404, 'point_missing'])
    expect(code(await ask('POST', `/api/runs/${randomUUID()}/cancel`))).toEqual([409, 'run_over'])
  })

  it('with a body that is no JSON or of another form is refused with the place of the fault', async () => {
    expect(code(await ask('POST', '/api/vessels', 'not json'))).toEqual([400, 'bad_request'])
    const { body } = await ask('POST', '/api/vessels', { name: 'A', definition: { ...definition, readers: 99 } })
    expect(body.message).toMatch(/^definition\.readers: /)
    expect(code(await ask('POST', `/api/points/${randomUUID()}/plan`, { picks: 'all' }))).toEqual([400, 'bad_request'])
  })

  it('with a body that can’t be read, or with a field that nobody knows, starts nothing', async () => {
    const runs = async () => (await ask('GET', '/api/runs')).body
    const before = await runs()
    const path = '/api/vessels/bookings/runs'
    for (const body of ['{"kind":"verify"', '[]', '"x"', 'null', '7', Buffer.from([0x7b, 0xff, 0x7d])])
      expect([String(body), code(await ask('POST', path, body))]).toEqual([String(body), [400, 'bad_request']])
    const unknown = await ask('POST', path, { knd: 'verify' })
    expect([code(unknown), unknown.body.message]).toEqual([[400, 'bad_request'], 'knd: nobody knows this field.'])
    expect(code(await ask('POST', path, { comment: 'x'.repeat(5_000_000) }))).toEqual([413, 'too_large'])
    expect(await runs()).toEqual(before)
  })

  it('that would release everything has to say so', async () => {
    expect(code(await ask('POST', '/api/holds/release', {}))).toEqual([400, 'bad_request'])
    expect(code(await ask('POST', '/api/holds/release', { run: randomUUID(), all: true }))).toEqual([400, 'bad_request'])
    expect((await ask('POST', '/api/holds/release', { all: true })).body).toMatchObject({ released: 0, failed: 0 })
  })

  it('is answered with what keeps other pages and other scripts out', async () => {
    for (const path of ['/', '/api/watch', '/mark.svg']) {
      const { headers } = await fetch(new URL(path, inject('url')))
      expect([path, headers.get('x-content-type-options'), headers.get('referrer-policy')]).toEqual([path, 'nosniff', 'no-referrer'])
    }
    const page = await fetch(inject('url'))
    const policy = page.headers.get('content-security-policy')!
    const [, nonce] = /script-src 'self' 'nonce-([\w+/=]+)';/.exec(policy)!
    expect(policy).toContain("frame-ancestors 'none'")
    const scripts = (await page.text()).match(/<script[^>]*>/g)!
    expect(scripts.every((script) => script.includes(`nonce="${nonce}"`))).toBe(true)
  })

  it('for a vessel that takes nothing is refused, and no vessel is made', async () => {
    const answer = await ask('POST', '/api/vessels', { name: 'Takes nothing', definition })
    expect(code(answer)).toEqual([422, 'definition_invalid'])
    expect(answer.body.data!.touched).toBe('Nothing was saved.')
    expect((await ask('GET', '/api/vessels/takes-nothing')).status).toBe(404)
  })

  it('of another page, or under a foreign name, is refused', async () => {
    const path = `/api/runs/${randomUUID()}/cancel`
    expect(code(await ask('POST', path, {}, { origin: 'http://elsewhere.example' }))).toEqual([403, 'origin_refused'])
    expect(code(await ask('POST', path, {}, { 'sec-fetch-site': 'cross-site' }))).toEqual([403, 'origin_refused'])
    expect(code(await ask('GET', '/api/watch', undefined, { host: 'elsewhere.example' }))).toEqual([403, 'host_refused'])
    expect(code(await ask('GET', '/api/watch', undefined, { 'sec-fetch-site': 'cross-site' }))).toEqual([403, 'origin_refused'])
    expect(code(await ask('POST', path, {}, { origin: inject('url') }))).toEqual([409, 'run_over'])
  })

  it('with a verb that an address does not have, or to none at all, is never answered with a page', async () => {
    const wrong: unknown[] = []
    for (const path of new Set(ALL.map((route) => route.path))) {
      const verbs = ALL.filter((route) => route.path === path).map(({ method }) => method)
      for (const verb of ['GET', 'POST', 'PUT', 'DELETE', 'PATCH', 'OPTIONS'].filter((other) => !verbs.includes(other))) {
        const answer = await ask(verb, path.replaceAll(/\[\w+\]/g, randomUUID()), /^P/.test(verb) ? {} : undefined)
        if (code(answer).join() !== '405,method_not_allowed') wrong.push([verb, path, answer])
      }
    }
    expect(wrong).toEqual([])
    for (const path of ['/api/nowhere', '/api/vessels/a/b/c/d', '/api/runs/1/nothing'])
      expect([path, code(await ask('GET', path))]).toEqual([path, [404, 'route_missing']])
    expect((await ask('HEAD', '/api/watch')).status).toBe(405)
    expect((await fetch(new URL('/api/vessels', inject('url')), { method: 'PUT' })).headers.get('allow')?.split(', ').sort()).toEqual([
      'GET',
      'POST',
    ])
  })

  it('that no page would send, to any route, is answered with a reason and not with a failure', async () => {
    expect(ROUTES.length).toBeGreaterThan(50)
    const wrong: unknown[] = []
    for (const { method, path } of ROUTES)
      for (const [i, odd] of ODD_ADDRESSES.entries()) {
        const address = path.replace(/\[\w+\]/, odd)
        const query = NAMES.map((name, j) => `${name}=${encodeURIComponent(ODD[(i * 3 + j) % ODD.length]!)}`).join('&')
        const sends = method === 'POST' || method === 'PUT'
        const answer = await (sends ? ask(method, address, BODIES[i]) : ask(method, `${address}?${query}`))
        const isTold = answer.status < 400 || typeof answer.body.data?.code === 'string'
        if (answer.status >= 500 || !isTold) wrong.push([method, address, answer.status, answer.body.message])
      }
    expect(wrong).toEqual([])
  })

  it('that holds what no text can hold is refused, in its address, its query and its body', async () => {
    expect(code(await ask('GET', '/api/vessels/%zz'))).toEqual([400, 'bad_request'])
    expect(code(await ask('GET', '/api/vessels/%00'))).toEqual([400, 'bad_request'])
    expect(code(await ask('GET', '/api/find?q=a%00b'))).toEqual([400, 'bad_request'])
    expect(code(await ask('POST', '/api/vessels', { name: 'A\0B', definition }))).toEqual([400, 'bad_request'])
    expect(code(await ask('POST', '/api/vessels', { name: '\ud800', definition }))).toEqual([400, 'bad_request'])
  })

  it('never brings a secret back', async () => {
    const texts = await Promise.all(
      ['/api/sources', '/api/stores', '/api/watch'].map(async (path) => JSON.stringify((await ask('GET', path)).body)),
    )
    for (const text of texts) expect(text).not.toMatch(new RegExp(`${inject('password')}|sealed`))
  })

  it('for rows, structure or files of a point that is not there, or badly asked, changes nothing', async () => {
    const id = randomUUID()
    expect(code(await ask('GET', `/api/points/${id}/rows?path=a`))).toEqual([404, 'point_missing'])
    expect(code(await ask('GET', `/api/points/${id}/rows?path=a&filter=nonsense`))).toEqual([400, 'bad_request'])
    expect(code(await ask('GET', `/api/points/${id}/rows?path=a&limit=100000`))).toEqual([400, 'bad_request'])
    expect(code(await ask('GET', `/api/points/${id}/row?path=a&at=here`))).toEqual([400, 'bad_request'])
    expect(code(await ask('GET', `/api/points/${id}/export?path=a&format=doc`))).toEqual([400, 'bad_request'])
    expect(code(await ask('GET', `/api/points/${id}/export?path=a&format=csv`))).toEqual([404, 'point_missing'])
    expect(code(await ask('GET', '/api/vessels/nowhere/history?path=a&column=b&value=c'))).toEqual([404, 'vessel_missing'])
    expect(code(await ask('POST', `/api/runs/${id}/take-back`, {}))).toEqual([404, 'run_missing'])
    expect(code(await ask('DELETE', `/api/saved-restores/${id}`))).toEqual([404, 'saved_restore_missing'])
    expect(code(await ask('GET', `/api/scratch/${id}/connection`))).toEqual([404, 'scratch_gone'])
    const wish = { picks: ['a'], into: { mode: 'scratch', source: 'a', hours: 0 } }
    expect(code(await ask('POST', `/api/points/${id}/plan`, wish))).toEqual([400, 'bad_request'])
  })
})
