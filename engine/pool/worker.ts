import { move, transferableSymbol, valueSymbol } from 'piscina'
import {
  convertTask,
  nameManyTask,
  nameTask,
  openTask,
  reckonTask,
  scanTask,
  sealManyTask,
  sealTask,
  sumsTask,
  type ConvertTask,
  type OpenTask,
  type ReckonTask,
  type ScanTask,
  type SealTask,
  type SumsTask,
} from './tasks'

// The entry of a worker thread (built to dist/pool-worker.mjs). Results are moved between threads, not copied.

function moving<T>(value: T, buffers: ArrayBuffer[]): T {
  return move({ [transferableSymbol]: buffers, [valueSymbol]: value } as never) as T
}

export function name(task: { plain: Uint8Array<ArrayBuffer>; key: Uint8Array }) {
  const result = { name: nameTask(task), plain: task.plain }
  return moving(result, [result.name.buffer, result.plain.buffer])
}

export function nameMany(task: Parameters<typeof nameManyTask>[0]) {
  const result = { ...nameManyTask(task), bytes: task.bytes }
  return moving(result, [result.names.buffer, result.digests.buffer, result.bytes.buffer])
}

export function sealMany(task: Parameters<typeof sealManyTask>[0]) {
  const result = { ...sealManyTask(task), bytes: task.bytes }
  return moving(result, [result.sealed.buffer, result.bytes.buffer])
}

export function sealChunk(task: SealTask) {
  const result = sealTask(task)
  return moving(result, [result.sealed.buffer])
}

export function openChunk(task: OpenTask) {
  const plain = openTask(task)
  return moving(plain, [plain.buffer])
}

export function scanChunk(task: ScanTask) {
  return scanTask(task)
}

export function reckonChunk(task: ReckonTask) {
  return reckonTask(task)
}

export function sumsOfChunk(task: SumsTask) {
  return sumsTask(task)
}

export function convertChunk(task: ConvertTask) {
  const result = convertTask(task)
  return moving(result, [result.bytes.buffer])
}
