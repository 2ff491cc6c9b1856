import { PassThrough, type Readable } from 'node:stream'
import type { FileEntry } from '../../../core/content/manifest'
import { VesselError } from '../../../core/errors'
import { digesting } from '../../pool/digest'
import type { Sink } from '../../store/writer'
import type { ClusterClient } from './client'
import { execute, type ExecTarget } from './exec'
import { MOUNT } from './listing'
import { readVolume, type ReadVolume } from './reader'

/** Where content goes that is only looked at. */
const NOWHERE: Sink = {
  put: async () => ({ name: '', stored: 0 }),
  putMany: async ({ memory, bounds }) =>
    bounds.map(([from, to]) => ({ name: '', stored: 0, digest: digesting().update(memory.plain.subarray(from, to)).digest('hex') })),
  // Nothing of it is needed.
  known: async (names) => new Set(names),
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

/**
 * What a volume holds, file by file with checksums.
 * @param before what it held at another time, in the order of the paths; what is as it was then is not read
 * @param only whether nothing else is asked for
 * @param compared is told of each file whose checksum the container took
 */
export function lookAtVolume(
  client: ClusterClient,
  target: ExecTarget,
  path: string,
  signal: AbortSignal,
  before: () => AsyncIterable<FileEntry>,
  only = false,
  compared?: () => void,
): Promise<ReadVolume> {
  return readVolume({ client, target, path, writer: NOWHERE, signal, moved: () => undefined, earlier: before, onlyEarlier: only, compared })
}

/** As tar says it: a write that is refused, or done only in part. */
const OUT_OF_ROOM = /No space left on device|Disk quota exceeded|File too large|Wrote only \d+ of \d+ bytes/

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
  const full = OUT_OF_ROOM.test(errors)
  throw new VesselError(full ? 'volume_full' : 'volume_write', {
    what: full ? `${path} has no room for it: ${why}` : `${path} could not be written: ${why}`,
    touched: 'What was written into it until then is there; what uses it is not started.',
    next: full ? 'Give it a larger volume, by a change of its claim, and bring it back again.' : 'Mend this, and bring it back again.',
  })
}
