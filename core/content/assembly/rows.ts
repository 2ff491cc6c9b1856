// AssemblyScript, compiled to WebAssembly by scripts/build-wasm.mjs.
//
// Walks over rows of the database's text COPY format and, for each row, adds its hash to the table's
// fingerprint and decides whether a chunk ends there. It is WebAssembly because both need 64-bit
// multiplications for every eight bytes of a backup, which JavaScript numbers cannot do.

const P1: u64 = 0x9e3779b185ebca87
const P2: u64 = 0xc2b2ae3d27d4eb4f
const P3: u64 = 0x165667b19e3779f9
const P4: u64 = 0x85ebca77c2b2ae63
const P5: u64 = 0x27d4eb2f165667c5

const NEWLINE: u8 = 10
const TAB: u8 = 9
const MINUS: u8 = 45
const COPY_DATA: u8 = 100

// @ts-ignore: decorator
@inline
function round(acc: u64, input: u64): u64 {
  return rotl<u64>(acc + input * P2, 31) * P1
}

// @ts-ignore: decorator
@inline
function merge(hash: u64, acc: u64): u64 {
  return (hash ^ round(0, acc)) * P1 + P4
}

/** XXH64 (the published algorithm) of `length` bytes at `ptr`. */
export function xxh64(ptr: usize, length: usize, seed: u64): u64 {
  let at = ptr
  const end = ptr + length
  let hash: u64
  if (length >= 32) {
    let a = seed + P1 + P2
    let b = seed + P2
    let c = seed
    let d = seed - P1
    const limit = end - 32
    do {
      a = round(a, load<u64>(at))
      b = round(b, load<u64>(at, 8))
      c = round(c, load<u64>(at, 16))
      d = round(d, load<u64>(at, 24))
      at += 32
    } while (at <= limit)
    hash = rotl<u64>(a, 1) + rotl<u64>(b, 7) + rotl<u64>(c, 12) + rotl<u64>(d, 18)
    hash = merge(hash, a)
    hash = merge(hash, b)
    hash = merge(hash, c)
    hash = merge(hash, d)
  } else {
    hash = seed + P5
  }
  hash += <u64>length
  while (at + 8 <= end) {
    hash = rotl<u64>(hash ^ round(0, load<u64>(at)), 27) * P1 + P4
    at += 8
  }
  if (at + 4 <= end) {
    hash = rotl<u64>(hash ^ (<u64>load<u32>(at) * P1), 23) * P2 + P3
    at += 4
  }
  while (at < end) {
    hash = rotl<u64>(hash ^ (<u64>load<u8>(at) * P5), 11) * P1
    at += 1
  }
  hash = (hash ^ (hash >> 33)) * P2
  hash = (hash ^ (hash >> 29)) * P3
  return hash ^ (hash >> 32)
}

// The chunk under construction: [chunkStart, chunkEnd) in this module's memory.
let chunkStart: usize = 0
let chunkEnd: usize = 0
let minBytes: usize = 0
let maxBytes: usize = 0
let span: u64 = 1
let keyColumn: i32 = -1

// Of the table so far.
let sumLow: u64 = 0
let sumHigh: u64 = 0
let tableRows: f64 = 0
let tableBytes: f64 = 0
// Of the chunk so far.
let chunkRows: f64 = 0
let chunkKeyed: bool = false
let chunkKeyMin: i64 = 0
let chunkKeyMax: i64 = 0
let chunkTail: u64 = 0
let malformed: bool = false

/** Begins a table. A negative `key` means that it has no single integer key column. */
export function begin(base: usize, min: usize, target: usize, max: usize, key: i32): void {
  chunkStart = base
  chunkEnd = base
  minBytes = min
  maxBytes = max
  span = target > min ? <u64>(target - min) : 1
  keyColumn = key
  sumLow = 0
  sumHigh = 0
  tableRows = 0
  tableBytes = 0
  malformed = false
  nextChunk()
}

/** Forgets the finished chunk and begins another at the same place. */
export function nextChunk(): void {
  chunkEnd = chunkStart
  chunkRows = 0
  chunkKeyed = false
}

// @ts-ignore: decorator
@inline
function noteKey(row: usize, length: usize): void {
  let at = row
  const end = row + length - 1
  for (let column = keyColumn; column > 0; column--) {
    while (at < end && load<u8>(at) != TAB) at++
    at++
  }
  let negative = false
  if (at < end && load<u8>(at) == MINUS) {
    negative = true
    at++
  }
  let value: i64 = 0
  while (at < end) {
    const digit = load<u8>(at) - 48
    if (digit > 9) break
    value = value * 10 + <i64>digit
    at++
  }
  if (negative) value = -value
  if (!chunkKeyed || value < chunkKeyMin) chunkKeyMin = value
  if (!chunkKeyed || value > chunkKeyMax) chunkKeyMax = value
  chunkKeyed = true
}

// Takes the row that lies at chunkEnd into the chunk; returns whether the chunk ends with it.
// The chance to end is the row's length over the span, so chunks are about `target` bytes long whatever
// the rows' length is, and the decision depends on the row alone.
// @ts-ignore: decorator
@inline
function takeRow(length: usize): bool {
  const row = chunkEnd
  const low = xxh64(row, length, 0)
  sumLow += low
  sumHigh += xxh64(row, length, 1)
  if (keyColumn >= 0) noteKey(row, length)
  chunkEnd += length
  chunkRows += 1
  tableRows += 1
  tableBytes += <f64>length
  chunkTail = low
  const size = chunkEnd - chunkStart
  return size >= maxBytes || (size >= minBytes && (low >> 32) * span < (<u64>length << 32))
}

/**
 * Takes rows from [from, to), which may begin with what an earlier call left over. Returns where it
 * stopped: at the end of a chunk (see `ended`), at the end of the last whole row, or at a message that
 * is not CopyData when `framed` (the messages of the wire protocol, one row in each) is set.
 */
export function take(from: usize, to: usize, framed: bool): usize {
  ended = false
  let at = from
  while (at < to) {
    let length: usize
    let row = at
    if (framed) {
      if (at + 5 > to || load<u8>(at) != COPY_DATA) break
      length = <usize>bswap<u32>(load<u32>(at + 1)) - 4
      row = at + 5
      if (row + length > to) break
      if (load<u8>(row + length - 1) != NEWLINE) {
        malformed = true
        break
      }
    } else {
      let end = at
      while (end < to && load<u8>(end) != NEWLINE) end++
      if (end == to) break
      length = end + 1 - at
    }
    memory.copy(chunkEnd, row, length)
    at = row + length
    if (takeRow(length)) {
      ended = true
      break
    }
  }
  return at
}

let ended: bool = false
export function hasEnded(): bool { return ended }
export function isMalformed(): bool { return malformed }
export function chunkLength(): usize { return chunkEnd - chunkStart }
export function getChunkRows(): f64 { return chunkRows }
export function isKeyed(): bool { return chunkKeyed }
export function getKeyMin(): i64 { return chunkKeyMin }
export function getKeyMax(): i64 { return chunkKeyMax }
export function getTail(): u64 { return chunkTail }
export function getSumLow(): u64 { return sumLow }
export function getSumHigh(): u64 { return sumHigh }
export function getTableRows(): f64 { return tableRows }
export function getTableBytes(): f64 { return tableBytes }
