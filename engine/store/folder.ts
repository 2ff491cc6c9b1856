import { constants } from 'node:fs'
import { access, mkdir, open, readdir, readFile, rename, rm, stat, statfs, type FileHandle } from 'node:fs/promises'
import { dirname, join } from 'node:path'
import { VesselError } from '../../core/errors'

/** A file that is being written and does not exist under its name until `commit`. */
export interface PendingFile {
  append(bytes: Uint8Array): Promise<void>
  /** Makes it durable and gives it its name. */
  commit(): Promise<void>
  discard(): Promise<void>
}

/** Where a store's files lie. Paths are relative, with forward slashes. */
export interface Backend {
  readonly place: string
  create(path: string): Promise<PendingFile>
  read(path: string, position: number, length: number): Promise<Buffer>
  readAll(path: string): Promise<Buffer>
  list(folder: string): Promise<{ path: string; bytes: number }[]>
  remove(path: string): Promise<void>
  space(): Promise<{ free: number; total: number }>
}

const PENDING = '.part'

/** Files that this process is writing, or has finished and not registered yet. */
const writing = new Set<string>()
const REGISTERED_WITHIN_MS = 60_000
const LOOKS_WITHIN_MS = 1000

/** A folder on local disk. */
export class FolderBackend implements Backend {
  constructor(readonly place: string) {}

  /** Makes the folder if it is missing, and checks that it can be written. */
  async prepare(): Promise<void> {
    try {
      await makeFolder(join(this.place, 'packs'))
      await makeFolder(join(this.place, 'points'))
      await access(this.place, constants.R_OK | constants.W_OK | constants.X_OK)
      const probe = await this.create('probe')
      await probe.append(Buffer.from('can this be written?'))
      await probe.discard()
    } catch (error) {
      throw this.translate(error, 'Nothing was written.')
    }
  }

  /** Looks whether a store could be made here, and makes nothing. @throws VesselError also when there is no answer in time */
  async look(): Promise<{ free: number; total: number }> {
    const late = new Promise<never>((_, reject) => setTimeout(() => reject(noAnswer(this.place)), LOOKS_WITHIN_MS).unref())
    return Promise.race([this.lookAtNearest(this.place), late])
  }

  /** Of a folder that is still to be made, the nearest above it that is there decides. */
  private async lookAtNearest(folder: string): Promise<{ free: number; total: number }> {
    try {
      if (!(await stat(folder)).isDirectory()) throw Object.assign(new Error('a file'), { code: 'ENOTDIR' })
      await access(folder, constants.R_OK | constants.W_OK | constants.X_OK)
      const { bavail, blocks, bsize } = await statfs(folder)
      return { free: bavail * bsize, total: blocks * bsize }
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT' && dirname(folder) !== folder) return this.lookAtNearest(dirname(folder))
      throw this.translate(error, 'Nothing was made.')
    }
  }

  async create(path: string): Promise<PendingFile> {
    const final = join(this.place, path)
    const pending = final + PENDING
    writing.add(final)
    let handle: FileHandle
    try {
      await makeFolder(dirname(final))
      handle = await open(pending, 'wx', 0o600)
    } catch (error) {
      throw this.translate(error, 'Nothing was written.')
    }
    return {
      append: async (bytes) => {
        try {
          await writeAll(handle, bytes)
        } catch (error) {
          throw this.translate(error, 'What this run had written is removed; earlier points are untouched.')
        }
      },
      commit: async () => {
        try {
          await handle.sync()
          await handle.close()
          await rename(pending, final)
          await syncFolder(dirname(final))
          setTimeout(() => writing.delete(final), REGISTERED_WITHIN_MS).unref()
        } catch (error) {
          throw this.translate(error, 'What this run had written is removed; earlier points are untouched.')
        }
      },
      discard: async () => {
        await handle.close().catch(() => undefined)
        await rm(pending, { force: true })
        writing.delete(final)
      },
    }
  }

  async read(path: string, position: number, length: number): Promise<Buffer> {
    const buffer = Buffer.allocUnsafeSlow(length)
    let handle: FileHandle | undefined
    try {
      handle = await open(join(this.place, path), 'r')
      const { bytesRead } = await handle.read(buffer, 0, length, position)
      if (bytesRead === length) return buffer
    } catch (error) {
      throw this.translate(error, 'Nothing was changed.')
    } finally {
      await handle?.close()
    }
    throw new VesselError('store_file_short', {
      what: `The file ${path} in ${this.place} is shorter than it was written.`,
      touched: 'Nothing was changed.',
      next: 'Verify the store to see which points are affected.',
    })
  }

  async readAll(path: string): Promise<Buffer> {
    try {
      return await readFile(join(this.place, path))
    } catch (error) {
      throw this.translate(error, 'Nothing was changed.')
    }
  }

  /** Finished files only, sorted. */
  async list(folder: string): Promise<{ path: string; bytes: number }[]> {
    const names = await this.names(folder)
    const finished = names.filter((name) => !name.endsWith(PENDING)).sort()
    return Promise.all(
      finished.map(async (name) => ({ path: `${folder}/${name}`, bytes: (await stat(join(this.place, folder, name))).size })),
    )
  }

  /** Whether somebody may still be at work on a file: we are, or another process was lately. */
  async isFresh(path: string, youngerThanMs: number): Promise<boolean> {
    const file = join(this.place, path)
    if (writing.has(file.endsWith(PENDING) ? file.slice(0, -PENDING.length) : file)) return true
    const found = await stat(file).catch(() => null)
    return found !== null && Date.now() - found.mtimeMs < youngerThanMs
  }

  /** Removes files that were begun and never finished, and that nobody is at work on. */
  async removePending(youngerThanMs: number): Promise<number> {
    let removed = 0
    for (const folder of ['packs', 'points', 'segments']) {
      for (const name of await this.names(folder)) {
        if (!name.endsWith(PENDING) || (await this.isFresh(`${folder}/${name}`, youngerThanMs))) continue
        await rm(join(this.place, folder, name), { force: true })
        removed++
      }
    }
    return removed
  }

  async remove(path: string): Promise<void> {
    try {
      await rm(join(this.place, path), { force: true })
    } catch (error) {
      throw this.translate(error, 'It was not removed.')
    }
  }

  /** Removes all files of a store; what else lies in the folder stays. */
  async erase(): Promise<void> {
    try {
      // Without its header it is no store any more, whatever else could not be removed.
      for (const part of ['store.json', 'packs', 'points', 'segments']) await rm(join(this.place, part), { recursive: true, force: true })
    } catch (error) {
      throw this.translate(error, 'Some of its files may be left.')
    }
  }

  async space(): Promise<{ free: number; total: number }> {
    try {
      const { bavail, blocks, bsize } = await statfs(this.place)
      return { free: bavail * bsize, total: blocks * bsize }
    } catch (error) {
      throw this.translate(error, 'Nothing was changed.')
    }
  }

  private async names(folder: string): Promise<string[]> {
    try {
      return await readdir(join(this.place, folder))
    } catch (error) {
      // Stores from before logs were followed have no folder for segments.
      if ((error as NodeJS.ErrnoException).code === 'ENOENT' && folder === 'segments') return []
      throw this.translate(error, 'Nothing was changed.')
    }
  }

  private translate(cause: unknown, touched: string): unknown {
    const code = (cause as NodeJS.ErrnoException).code ?? ''
    const known = TROUBLES[code]
    if (!known) return cause
    return new VesselError(known.code, { what: known.what(this.place), touched, next: known.next, cause })
  }
}

/** Folder by folder: to make all at once never ends where the system makes none, as in /proc. */
async function makeFolder(path: string): Promise<void> {
  const make = () =>
    mkdir(path, { mode: 0o700 }).catch(async (error: NodeJS.ErrnoException) => {
      if (error.code !== 'EEXIST' || !(await stat(path)).isDirectory()) throw error
    })
  await make().catch(async (error: NodeJS.ErrnoException) => {
    if (error.code !== 'ENOENT' || dirname(path) === path) throw error
    await makeFolder(dirname(path))
    await make()
  })
}

const noAnswer = (place: string) =>
  new VesselError('store_no_answer', {
    what: `What lies at ${place} did not answer within a second.`,
    touched: 'Nothing was made.',
    next: 'See whether the disk or share answers, or choose another place.',
  })

const readOnly = {
  code: 'store_not_writable',
  what: (place: string) => `The folder ${place} can't be written by the user that this program runs as.`,
  next: 'Give that user the right to read, write and enter it, or choose another folder.',
}
const full = {
  code: 'store_full',
  what: (place: string) => `There is no space left where ${place} lies.`,
  next: 'Make space, or let another store be the primary one; then run it again.',
}
const noFolder = {
  code: 'store_not_a_folder',
  what: (place: string) => `${place}, or something above it, is a file and no folder.`,
  next: 'Choose another place.',
}
const noPath = {
  code: 'store_path',
  what: (place: string) =>
    `The system can’t follow the path ${place.length > 200 ? `${place.slice(0, 200)}…` : place}: it is too long, or leads in a circle.`,
  next: 'Choose another place.',
}
const TROUBLES: Record<string, { code: string; what: (place: string) => string; next: string }> = {
  EACCES: readOnly,
  EPERM: readOnly,
  EROFS: readOnly,
  ENOSPC: full,
  EDQUOT: full,
  EFBIG: full,
  ENOTDIR: noFolder,
  // As a folder is made where a file is.
  EEXIST: noFolder,
  ENAMETOOLONG: noPath,
  ELOOP: noPath,
  ENOENT: {
    code: 'store_file_missing',
    what: (place) => `A file or folder of the store at ${place} is not there.`,
    next: 'See whether its disk is mounted. If files were removed, verify the store to learn which points are affected.',
  },
}

async function writeAll(handle: FileHandle, bytes: Uint8Array): Promise<void> {
  for (let from = 0; from < bytes.length;) {
    const { bytesWritten } = await handle.write(bytes, from)
    from += bytesWritten
  }
}

async function syncFolder(path: string): Promise<void> {
  const handle = await open(path, 'r')
  await handle.sync()
  await handle.close()
}
