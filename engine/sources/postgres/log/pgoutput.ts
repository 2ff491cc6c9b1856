// The messages of logical replication as PostgreSQL documents them ("Logical Replication Message Formats",
// protocol version 1). Values come as text; they are written on as fields of COPY text without being made strings.

export const MESSAGE = {
  begin: 66,
  commit: 67,
  origin: 79,
  relation: 82,
  insert: 73,
  update: 85,
  delete: 68,
  truncate: 84,
  logical: 77,
} as const

// Microseconds from 1970 to 2000, where the server's time begins.
const EPOCH = 946_684_800_000_000n

export interface RelationMessage {
  oid: number
  schema: string
  name: string
  /** `d`, `n`, `f` or `i`. */
  identity: string
  columns: { name: string; key: boolean; type: number }[]
}

export const positionText = (value: bigint) =>
  `${(value >> 32n).toString(16).toUpperCase()}/${(value & 0xffffffffn).toString(16).toUpperCase()}`

/** Reads fields of a message one after the other. */
export class MessageReader {
  at = 1

  constructor(readonly bytes: Buffer) {}

  int8(): number {
    return this.bytes.readUInt8(this.at++)
  }

  int16(): number {
    this.at += 2
    return this.bytes.readUInt16BE(this.at - 2)
  }

  int32(): number {
    this.at += 4
    return this.bytes.readUInt32BE(this.at - 4)
  }

  position(): string {
    this.at += 8
    return positionText(this.bytes.readBigUInt64BE(this.at - 8))
  }

  /** Microseconds since 1970. */
  time(): number {
    this.at += 8
    return Number(this.bytes.readBigInt64BE(this.at - 8) + EPOCH)
  }

  text(): string {
    const end = this.bytes.indexOf(0, this.at)
    const value = this.bytes.toString('utf8', this.at, end)
    this.at = end + 1
    return value
  }
}

export function readRelation(bytes: Buffer): RelationMessage {
  const reader = new MessageReader(bytes)
  const oid = reader.int32()
  const [schema, name] = [reader.text(), reader.text()]
  const identity = String.fromCharCode(reader.int8())
  const columns = Array.from({ length: reader.int16() }, () => {
    const key = (reader.int8() & 1) === 1
    const column = { name: reader.text(), key, type: reader.int32() }
    reader.int32()
    return column
  })
  return { oid, schema, name, identity, columns }
}

export function readMessage(bytes: Buffer): { prefix: string; content: string } {
  const reader = new MessageReader(bytes)
  reader.int8()
  reader.position()
  const prefix = reader.text()
  const length = reader.int32()
  return { prefix, content: bytes.toString('utf8', reader.at, reader.at + length) }
}

const NULL_VALUE = 110
const UNCHANGED_VALUE = 117
const ESCAPED: Record<number, number> = { 8: 98, 9: 116, 10: 110, 11: 118, 12: 102, 13: 114, 92: 92 }
const BACKSLASH = 92

/** Lines that are being gathered; it grows as it has to and gives its content away. */
export class LineBuffer {
  private bytes: Buffer<ArrayBuffer>
  length = 0

  constructor(private readonly room: number) {
    this.bytes = Buffer.from(new ArrayBuffer(room))
  }

  private ensure(more: number): void {
    if (this.length + more <= this.bytes.length) return
    const larger = Buffer.from(new ArrayBuffer(Math.max(this.bytes.length * 2, this.length + more)))
    this.bytes.copy(larger, 0, 0, this.length)
    this.bytes = larger
  }

  text(value: string): void {
    this.ensure(value.length * 3)
    this.length += this.bytes.write(value, this.length)
  }

  byte(value: number): void {
    this.ensure(1)
    this.bytes[this.length++] = value
  }

  /** A record of a relation that stands by itself. */
  record(op: string, line: Uint8Array): void {
    this.text(`${op}\t0\t`)
    this.ensure(line.length + 1)
    this.bytes.set(line, this.length)
    this.length += line.length
    this.byte(10)
  }

  /**
   * Writes a tuple as fields of COPY text, and returns where the message goes on. Columns that are not in `only`
   * are written as null, as the server does for old keys.
   */
  tuple(message: Buffer, from: number): number {
    let at = from
    const columns = message.readUInt16BE(at)
    at += 2
    for (let i = 0; i < columns; i++) {
      if (i > 0) this.byte(9)
      const kind = message[at++]
      if (kind === NULL_VALUE) this.text('\\N')
      else if (kind === UNCHANGED_VALUE) this.text('\\U')
      else {
        const length = message.readUInt32BE(at)
        at += 4
        this.value(message, at, at + length)
        at += length
      }
    }
    return at
  }

  private value(message: Buffer, from: number, to: number): void {
    this.ensure((to - from) * 2)
    const { bytes } = this
    let at = this.length
    for (let i = from; i < to; i++) {
      const byte = message[i]!
      if (byte > BACKSLASH || (byte > 13 && byte < BACKSLASH)) bytes[at++] = byte
      else {
        const escaped = ESCAPED[byte]
        if (escaped !== undefined) bytes[at++] = BACKSLASH
        bytes[at++] = escaped ?? byte
      }
    }
    this.length = at
  }

  take(): Uint8Array<ArrayBuffer> {
    const bytes = new Uint8Array(this.length)
    bytes.set(this.bytes.subarray(0, this.length))
    this.length = 0
    if (this.bytes.length > this.room * 4) this.bytes = Buffer.from(new ArrayBuffer(this.room))
    return bytes
  }
}
