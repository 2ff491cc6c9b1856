import { move, transferableSymbol, valueSymbol } from 'piscina'
import {
  convertTask,
  nameManyTask,
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

// The entry of a worker thread (built to dist/pool-worker.mjs). Results are moved between threads, not copied.

function moving<T>(value: T, buffers: ArrayBuffer[]): T {
  return move({ [transferableSymbol]: buffers, [valueSymbol]: value } as never) as T
}

export function name(task: { plain: Uint8Array<ArrayBuffer>; key: Uint8Array }) {
  const result = { name: nameTask(task), plain: task.plain }
  return moving(result, [result.name.buffer, result.plain.buffer])
}

export function nameMany(task: { plains: Uint8Array<ArrayBuffer>[]; key: Uint8Array }) {
  const result = { ...nameManyTask(task), plains: task.plains }
  return moving(result, [result.names.buffer, result.sums.buffer, ...result.plains.map(({ buffer }) => buffer)])
}

export function sealMany(tasks: SealTask[]) {
  const result = tasks.map(sealTask)
  return moving(
    result,
    result.map(({ sealed }) => sealed.buffer),
  )
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
