import { createCipheriv, createDecipheriv, randomBytes } from 'node:crypto'
import { chmod, mkdir, open, readFile } from 'node:fs/promises'
import { dirname } from 'node:path'
import { VesselError } from '../../core/errors'

/** What sealing adds: a nonce and a tag. */
export const SEAL_BYTES = 12 + 16

/**
 * AES-256-GCM: 12 bytes of nonce, the sealed bytes, 16 bytes of tag. `context` is bound to the result and
 * must be the same when it is opened.
 */
export function seal(key: Buffer, plain: Uint8Array, context: string | Uint8Array): Buffer {
  return Buffer.concat(sealedParts(key, plain, context))
}

/** The same in the parts that it is made of, for those who put it where they want it themselves. */
export function sealedParts(key: Buffer, plain: Uint8Array, context: string | Uint8Array): Buffer[] {
  const nonce = randomBytes(12)
  const cipher = createCipheriv('aes-256-gcm', key, nonce).setAAD(Buffer.from(context as Uint8Array))
  return [nonce, cipher.update(plain), cipher.final(), cipher.getAuthTag()]
}

/** Opens what `seal` made. Throws when the key, the context or a single bit is another. */
export function unseal(key: Buffer, sealed: Uint8Array, context: string | Uint8Array): Buffer {
  const decipher = createDecipheriv('aes-256-gcm', key, sealed.subarray(0, 12)).setAAD(Buffer.from(context as Uint8Array))
  decipher.setAuthTag(sealed.subarray(-16))
  return Buffer.concat([decipher.update(sealed.subarray(12, -16)), decipher.final()])
}

/** Where the master key is: 64 hex digits, or a file that holds them. */
export interface KeyPlace {
  hex?: string
  file: string
}

/** Credentials and store keys in the catalog are sealed with the installation's master key. */
export class Secrets {
  private constructor(private readonly key: Buffer) {}

  /** The master key from 64 hex digits, or from a file that is made with mode 0600 when it is missing and may be made. */
  static async open({ hex, file }: KeyPlace, { mayMake = true } = {}): Promise<Secrets> {
    if (hex) return new Secrets(readKey(hex, 'the environment'))
    if (mayMake) await makeKey(file)
    try {
      await chmod(file, 0o600)
      return new Secrets(readKey(await readFile(file, 'utf8'), file))
    } catch (error) {
      throw (error as NodeJS.ErrnoException).code === 'ENOENT' ? keyMissing(file) : error
    }
  }

  seal(plain: string | Buffer, context: string): Buffer {
    return seal(this.key, Buffer.from(plain as Buffer), context)
  }

  open(sealed: Buffer, context: string): Buffer {
    try {
      return unseal(this.key, sealed, context)
    } catch (cause) {
      throw new VesselError('master_key_wrong', {
        what: `A credential in the catalog (${context}) can't be opened with this installation's master key.`,
        touched: 'Nothing was changed.',
        next: 'Start with the key file or the environment variable that the catalog was made with.',
        status: 500,
        cause,
      })
    }
  }
}

async function makeKey(file: string): Promise<void> {
  await mkdir(dirname(file), { recursive: true, mode: 0o700 })
  try {
    const handle = await open(file, 'wx', 0o600)
    await handle.writeFile(`${randomBytes(32).toString('hex')}\n`)
    await handle.sync()
    await handle.close()
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw error
  }
}

const keyMissing = (file: string) =>
  new VesselError('master_key_missing', {
    what: `The catalog is sealed with a master key, and there is none at ${file}.`,
    touched: 'Nothing was started, and no new key was made: it would open nothing that is stored already.',
    next: 'Put the key file of this catalog there, or name it in VESSEL_MASTER_KEY_FILE.',
    status: 500,
  })

function readKey(text: string, where: string): Buffer {
  const hex = text.trim()
  if (!/^[0-9a-f]{64}$/i.test(hex)) {
    throw new VesselError('master_key_malformed', {
      what: `The master key from ${where} is not 64 hex digits.`,
      touched: 'Nothing was started.',
      next: 'Put the right key there. A new key would not open the credentials that are stored already.',
      status: 500,
    })
  }
  return Buffer.from(hex, 'hex')
}
