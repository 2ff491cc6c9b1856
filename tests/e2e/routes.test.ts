import { randomUUID } from 'node:crypto'
import { request } from 'node:http'
import { describe, expect, inject, it } from 'vitest'

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
      answer.on('end', () => resolve({ status: answer.statusCode!, body: text ? JSON.parse(text) : {} }))
    })
    sent.on('error', reject)
    sent.end(body === undefined ? undefined : typeof body === 'string' ? body : JSON.stringify(body))
  })
}

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
    expect(code(await ask('POST', path, {}, { origin: inject('url') }))).toEqual([409, 'run_over'])
  })

  it('never brings a secret back', async () => {
    const texts = await Promise.all(
      ['/api/estate/sources', '/api/stores', '/api/watch'].map(async (path) => JSON.stringify((await ask('GET', path)).body)),
    )
    for (const text of texts) expect(text).not.toMatch(new RegExp(`${inject('password')}|sealed`))
  })

  it('for rows, structure or files of a point that is not there, or badly asked, changes nothing', async () => {
    const id = randomUUID()
    expect(code(await ask('GET', `/api/points/${id}/rows?path=a`))).toEqual([404, 'point_missing'])
    expect(code(await ask('GET', `/api/points/${id}/rows?path=a&filter=nonsense`))).toEqual([400, 'bad_request'])
    expect(code(await ask('GET', `/api/points/${id}/rows?path=a&limit=100000`))).toEqual([400, 'bad_request'])
    expect(code(await ask('GET', `/api/points/${id}/row?path=a&at=here`))).toEqual([400, 'bad_request'])
    expect(code(await ask('GET', `/api/points/${id}/take-out?path=a&format=doc`))).toEqual([400, 'bad_request'])
    expect(code(await ask('GET', `/api/points/${id}/take-out?path=a&format=csv`))).toEqual([404, 'point_missing'])
    expect(code(await ask('GET', '/api/vessels/nowhere/history?path=a&column=b&value=c'))).toEqual([404, 'vessel_missing'])
    expect(code(await ask('POST', `/api/runs/${id}/take-back`, {}))).toEqual([404, 'run_missing'])
    expect(code(await ask('POST', `/api/saved-restores/${id}/run`))).toEqual([404, 'saved_restore_missing'])
    expect(code(await ask('GET', `/api/scratch/${id}/connection`))).toEqual([404, 'scratch_gone'])
    const wish = { picks: ['a'], into: { mode: 'scratch', source: 'a', hours: 0 } }
    expect(code(await ask('POST', `/api/points/${id}/plan`, wish))).toEqual([400, 'bad_request'])
  })
})
