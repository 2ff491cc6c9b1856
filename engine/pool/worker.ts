import { move, transferableSymbol, valueSymbol } from 'piscina'
import {
  convertTask,
  nameTask,
  openTask,
  reckonTask,
  scanTask,
  sealTask,
  sumsTask,
  type ConvertTask,
  type OpenTask,
  type ReckonTask,
  type ScanTask,
  type SealTask,
  type SumsTask,
} from './tasks'
import { nameManyTask, openManyTask, sealManyTask } from './pieces'

// The entry of a worker thread (built to dist/pool-worker.mjs). Results are moved between threads, not copied.

function moving<T>(value: T, buffers: ArrayBuffer[]): T {
  return move({ [transferableSymbol]: buffers, [valueSymbol]: value } as never) as T
}

export function name(task: { plain: Uint8Array<ArrayBuffer>; key: Uint8Array }) {
  const result = { name: nameTask(task), plain: task.plain }
  return moving(result, [result.name.buffer, result.plain.buffer])
}

export function nameMany(task: Parameters<typeof nameManyTask>[0]) {
  const result = nameManyTask(task)
  return moving(result, [result.names.buffer, result.digests.buffer])
}

export function sealMany(task: Parameters<typeof sealManyTask>[0]) {
  return sealManyTask(task)
}

export function sealChunk(task: SealTask) {
  const result = sealTask(task)
  return moving(result, [result.sealed.buffer])
}

export function openMany(task: Parameters<typeof openManyTask>[0]) {
  const plain = openManyTask(task)
  return moving(
    plain,
    plain.map(({ buffer }) => buffer),
  )
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
