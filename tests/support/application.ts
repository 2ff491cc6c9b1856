import { spawn, type ChildProcess } from 'node:child_process'
import { once } from 'node:events'
import { cpSync, openSync, symlinkSync } from 'node:fs'
import { join } from 'node:path'
import { inject, vi } from 'vitest'
import { freePort } from '../../demo/postgres-server'
import { access } from './right-requests'

const root = process.cwd()

/** A built checkout can be moved: all that it needs to run is found from where it lies now. */
function movedCheckout(folder: string): string {
  const moved = join(folder, 'moved')
  for (const built of ['.output', 'dist']) cpSync(join(root, built), join(moved, built), { recursive: true })
  symlinkSync(join(root, 'node_modules'), join(moved, 'node_modules'))
  return moved
}

/** The built application, as a process of its own. */
export class Application {
  private constructor(
    readonly url: string,
    readonly log: string,
    private readonly process: ChildProcess,
  ) {}

  /**
   * @param folder for its key, its log and the checkout that it runs from
   * @param worker whether it takes part in the work
   */
  static async start(folder: string, catalog: string, worker: 'alone' | 'off' = 'alone'): Promise<Application> {
    const checkout = movedCheckout(folder)
    const log = join(folder, 'web.log')
    const out = openSync(log, 'w')
    const port = await freePort()
    const child = spawn(process.execPath, ['.output/server/index.mjs'], {
      cwd: checkout,
      stdio: ['ignore', out, out],
      env: {
        ...process.env,
        NITRO_HOST: '127.0.0.1',
        NITRO_PORT: String(port),
        VESSEL_CATALOG: catalog,
        VESSEL_ROOT: checkout,
        VESSEL_MASTER_KEY_FILE: join(folder, 'master.key'),
        VESSEL_WORKER: worker,
      },
    })
    const url = `http://127.0.0.1:${port}`
    await answering(`${url}/api/watch`)
    return new Application(url, log, child)
  }

  /** A request as it is, and what was answered, whatever it is. */
  async send(method: string, address: string, body?: string): Promise<{ status: number; code?: string; text: string }> {
    const answer = await fetch(this.url + address, {
      method,
      headers: { 'content-type': 'application/json' },
      ...(body === undefined ? {} : { body }),
      signal: AbortSignal.timeout(30_000),
    })
    const text = await answer.text()
    const told = text.startsWith('{') ? (JSON.parse(text) as { data?: { code?: string } }) : {}
    return { status: answer.status, text, ...(told.data?.code ? { code: told.data.code } : {}) }
  }

  /** What is answered to a request that has to succeed. */
  async asks<T>(method: string, address: string, body?: object): Promise<T> {
    const { status, text } = await this.send(method, address, body && JSON.stringify(body))
    if (status >= 300) throw new Error(`${method} ${address}: ${status} ${text}`)
    return JSON.parse(text) as T
  }

  /** Makes the store `dry-dock` in a folder, and connects the test server as `db`; the id of that source. */
  async connects(folder: string): Promise<string> {
    await this.asks('POST', '/api/stores', { name: 'dry-dock', path: join(folder, 'store') })
    const body = { name: 'db', settings: access(inject('port')), password: inject('password') }
    return (await this.asks<{ id: string }>('POST', '/api/sources', body)).id
  }

  /** Waits until a vessel has a point and none of its runs goes on; its points, the newest first. */
  async points(slug: string): Promise<{ id: string }[]> {
    const look = async () => {
      const going = await this.asks<unknown[]>('GET', `/api/runs?vessel=${slug}&states=waiting,running`)
      const { points } = await this.asks<{ points: { id: string }[] }>('GET', `/api/vessels/${slug}/lifeline`)
      if (going.length > 0 || points.length === 0) throw new Error(`${slug} has ${points.length} points, and ${going.length} runs go on`)
      return points
    }
    return vi.waitFor(look, { timeout: 60_000, interval: 200 })
  }

  async stop(): Promise<void> {
    if (this.process.exitCode !== null) return
    const ended = once(this.process, 'exit')
    this.process.kill('SIGTERM')
    await ended
  }
}

async function answering(url: string): Promise<void> {
  const until = Date.now() + 60_000
  for (;;) {
    const answer = await fetch(url).catch(() => undefined)
    if (answer?.ok) return
    if (Date.now() > until) throw new Error(`the application did not answer at ${url}`)
    await new Promise((resolve) => setTimeout(resolve, 200))
  }
}
