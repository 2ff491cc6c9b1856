import { createHash } from 'node:crypto'
import { PassThrough, type Readable } from 'node:stream'
import { VesselError } from '../../../core/errors'
import type { Sink } from '../../store/writer'
import type { ClusterClient } from './client'
import { execute, type ExecTarget } from './exec'
import { MOUNT, readVolume, type VolumeContent } from './reader'

/** Where content goes that is only looked at. */
const NOWHERE: Sink = {
  put: async () => ({ name: '', stored: 0 }),
  putMany: async (plains) => plains.map((plain) => ({ name: '', stored: 0, sha256: createHash('sha256').update(plain).digest('hex') })),
  ready: async () => undefined,
  failure: undefined,
}

/** Takes everything out of a volume. */
export async function emptyVolume(client: ClusterClient, target: ExecTarget, path: string, signal: AbortSignal): Promise<void> {
  await run(client, target, path, ['find', `${MOUNT}/`, '-mindepth', '1', '-delete'], null, signal)
}

/** Puts a tar archive into a volume, with owners, modes and times as they were. */
export async function fillVolume(
  client: ClusterClient,
  target: ExecTarget,
  path: string,
  archive: Readable,
  signal: AbortSignal,
): Promise<void> {
  const command = ['tar', '--extract', '--file=-', '--numeric-owner', '--preserve-permissions', '--overwrite', `--directory=${MOUNT}`]
  await run(client, target, path, command, archive, signal)
}

/** What a volume holds, file by file with checksums. */
export function lookAtVolume(client: ClusterClient, target: ExecTarget, path: string, signal: AbortSignal): Promise<VolumeContent> {
  return readVolume(client, target, path, NOWHERE, signal, () => undefined)
}

async function run(
  client: ClusterClient,
  target: ExecTarget,
  path: string,
  command: string[],
  input: Readable | null,
  signal: AbortSignal,
): Promise<void> {
  const { code, errors, message } = await execute(client, target, command, new PassThrough().resume(), signal, input)
  if (code === 0) return
  const why = code === null ? message : errors.trim().split('\n').slice(0, 3).join(' ') || `${command[0]} ended with ${code}`
  const full = /No space left on device|Disk quota exceeded/.test(errors)
  throw new VesselError(full ? 'volume_full' : 'volume_write', {
    what: full ? `${path} is full: ${why}` : `${path} could not be written: ${why}`,
    touched: 'What was written into it until then is there; what uses it is not started.',
    next: full ? 'Give it a larger volume, by a change of its claim, and bring it back again.' : 'Mend this, and bring it back again.',
  })
}
