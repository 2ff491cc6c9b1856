import { readdir, realpath, stat } from 'node:fs/promises'
import { join } from 'node:path'
import type { Readable } from 'node:stream'
import { startProgram } from '../program'
import { VesselError } from '../../core/errors'
import type { Act } from '../../core/quiesce/sequence'
import { KEPT_CHARACTERS } from '../../core/storable'
import { fillIn, fillInAll, valuesIn } from '../../core/quiesce/values'
import type { ActJob, ActResult, Holder } from '../sources/source'

/** What an administrator lets steps do outside of sources. */
export interface Allowed {
  /** `host` or `host:port` that may be called. */
  hosts: string[]
  /** The one folder whose programs may be run; null where none may. */
  folder: string | null
}

const KEPT = KEPT_CHARACTERS
const OUTPUT_WITHIN_MS = 1000

/** Steps that call an address or run a program, as far as that is allowed. */
export function outsideHolder(allowed: Allowed): Holder {
  return {
    place: async (_, act) => {
      if (act.kind === 'http') ensureAllowed(allowed, new URL(act.url.replaceAll(/\{[^}]*\}/g, 'x')))
      if (act.kind === 'program') await programPath(allowed, act.program)
      return { act }
    },
    perform: (job) => {
      const { act } = job.placed
      if (act.kind === 'http') return call(allowed, job, act)
      if (act.kind === 'program') return run(allowed, job, act)
      throw new Error('not an act outside of sources')
    },
  }
}

const failed = (failure: string, output = ''): ActResult => ({ output, values: {}, failure })

function ensureAllowed({ hosts }: Allowed, url: URL): void {
  if (hosts.includes(url.host) || hosts.includes(url.hostname)) return
  throw new VesselError('host_not_allowed', {
    what: `Steps may not call ${url.host}.`,
    touched: 'Nothing was called.',
    next: 'An administrator allows hosts in VESSEL_HOOK_HOSTS.',
  })
}

async function call(allowed: Allowed, job: ActJob, act: Extract<Act, { kind: 'http' }>): Promise<ActResult> {
  const address = fillIn(act.url, job.values, encodeURIComponent)
  const body = fillIn(act.body, job.values)
  const missing = address.missing ?? body.missing
  if (missing) return failed(`The value ${missing} was not returned.`)
  const url = new URL(address.text)
  ensureAllowed(allowed, url)
  const limit = AbortSignal.timeout(Math.max(1, Math.round(job.limitMs)))
  try {
    const answer = await fetch(url, {
      method: act.method,
      ...(act.method === 'GET' || act.body === '' ? {} : { body: body.text }),
      // Where an answer sends us is not where an administrator let us go.
      redirect: 'manual',
      signal: AbortSignal.any([job.signal, limit]),
    })
    const output = await beginningOf(answer)
    if (answer.status >= 300) return failed(`${url.host} answered ${answer.status}.`, output)
    return { output, values: valuesIn(output), failure: null }
  } catch (error) {
    job.signal.throwIfAborted()
    if (limit.aborted) return failed(`${url.host} had not answered after ${job.limitMs / 1000} s.`)
    const cause = (error as { cause?: Error }).cause ?? (error as Error)
    return failed(`${url.host} could not be called: ${cause.message}.`)
  }
}

async function beginningOf(answer: Response): Promise<string> {
  const parts: Uint8Array[] = []
  let size = 0
  // The types of the browser's streams don't know that they can be iterated here.
  for await (const part of (answer.body ?? []) as unknown as AsyncIterable<Uint8Array>) {
    parts.push(part)
    size += part.length
    if (size > KEPT) break
  }
  return Buffer.concat(parts).toString('utf8').slice(0, KEPT).trimEnd()
}

/** Where a program lies; a link may not lead out of the folder. */
async function programPath({ folder }: Allowed, program: string): Promise<string> {
  const refuse = (what: string, next: string) => new VesselError('program_not_allowed', { what, touched: 'Nothing was run.', next })
  if (folder === null) throw refuse('Steps may run no programs here.', 'An administrator names a folder of programs in VESSEL_HOOK_FOLDER.')
  const root = await realpath(folder).catch(() => folder)
  const path = await realpath(join(root, program)).catch(() => null)
  if (path !== null && path === join(root, program) && (await stat(path)).isFile()) return path
  throw refuse(`There is no program ${program} in the folder of programs.`, `Put it into ${folder}, itself and not as a link.`)
}

async function run(allowed: Allowed, job: ActJob, act: Extract<Act, { kind: 'program' }>): Promise<ActResult> {
  const { texts, missing } = fillInAll(act.arguments, job.values)
  if (missing) return failed(`The value ${missing} was not returned.`)
  const path = await programPath(allowed, act.program)
  return new Promise((resolve, reject) => {
    const child = startProgram(path, texts, {
      environment: { VESSEL_HOLD: job.mark },
      cwd: allowed.folder!,
      stdio: ['ignore', 'pipe', 'pipe'],
      // At the head of a group, so that it is ended with all that it has started.
      detached: true,
    })
    const [out, errors] = [endOf(child.stdout!), endOf(child.stderr!)]
    let ended: 'late' | 'given up' | null = null
    const end = (why: 'late' | 'given up') => {
      ended ??= why
      if (child.pid !== undefined) killGroup(child.pid)
    }
    const timer = setTimeout(() => end('late'), Math.max(1, Math.round(job.limitMs)))
    const giveUp = () => end('given up')
    job.signal.addEventListener('abort', giveUp)
    if (job.signal.aborted) giveUp()
    const over = (failure: string | null) => {
      clearTimeout(timer)
      job.signal.removeEventListener('abort', giveUp)
      if (ended === 'given up') return reject(job.signal.reason as Error)
      const output = [out(), errors()]
        .filter((text) => text.trim() !== '')
        .join('\n')
        .trimEnd()
      if (ended === 'late') return resolve(failed(`It had not ended after ${job.limitMs / 1000} s and was killed.`, output))
      resolve(failure === null ? { output, values: valuesIn(out()), failure } : failed(failure, output))
    }
    child.once('error', (error) => over(`It could not be run: ${error.message}.`))
    // What it has started may hold its output open for as long as it likes.
    child.once('exit', () =>
      setTimeout(() => [child.stdout, child.stderr].forEach((stream) => stream!.destroy()), OUTPUT_WITHIN_MS).unref(),
    )
    child.once('close', (code, signal) => over(code === 0 ? null : `It ended with ${code ?? signal}.`))
  })
}

/** Gathers the end of what is written, which is all that is kept of it. */
function endOf(stream: Readable): () => string {
  let kept = Buffer.alloc(0)
  stream.on('data', (part: Buffer) => {
    kept = Buffer.concat([kept, part])
    if (kept.length > KEPT * 2) kept = kept.subarray(-KEPT)
  })
  stream.on('error', () => undefined)
  return () => kept.subarray(-KEPT).toString('utf8')
}

function killGroup(pid: number): void {
  try {
    process.kill(-pid, 'SIGKILL')
  } catch {
    // It is gone.
  }
}

/** Programs that steps may run, by name. */
export async function programsIn({ folder }: Allowed): Promise<string[]> {
  if (folder === null) return []
  const entries = await readdir(folder, { withFileTypes: true }).catch(() => [])
  return entries
    .filter((entry) => entry.isFile() && /^[\w.-]+$/.test(entry.name))
    .map(({ name }) => name)
    .sort()
}
