import jsonPatch, { type Operation } from 'fast-json-patch'
import { badRequest, Failure } from './failure'

// The ways in which the API lets an object be changed in part.

type Json = Record<string, any> // A patch may hold anything.

/** Lists whose items have a name of their own, and are merged by it in a strategic merge. */
const MERGE_KEYS: Record<string, string> = {
  containers: 'name',
  initContainers: 'name',
  env: 'name',
  volumes: 'name',
  volumeMounts: 'mountPath',
  ports: 'containerPort',
  imagePullSecrets: 'name',
  ownerReferences: 'uid',
  conditions: 'type',
}
const isObject = (value: unknown): value is Json => typeof value === 'object' && value !== null && !Array.isArray(value)

/** RFC 7396; with `strategic` lists with names are merged by them, and lists of finalizers become one. */
function merged(target: unknown, patch: unknown, strategic: boolean, field = ''): unknown {
  if (Array.isArray(patch) && strategic && Array.isArray(target)) return mergedList(target, patch, field)
  if (!isObject(patch)) return patch
  const result: Json = isObject(target) ? { ...target } : {}
  for (const [key, value] of Object.entries(patch)) {
    if (key.startsWith('$')) continue
    if (value === null) delete result[key]
    else result[key] = merged(result[key], value, strategic, key)
  }
  return result
}

function mergedList(target: unknown[], patch: unknown[], field: string): unknown[] {
  if (field === 'finalizers') return [...new Set([...target, ...patch])]
  const key = field === 'ports' && patch.some((item) => isObject(item) && 'port' in item) ? 'port' : MERGE_KEYS[field]
  if (!key || !patch.every((item) => isObject(item) && key in item)) return patch
  const result = [...target] as Json[]
  for (const item of patch as Json[]) {
    const at = result.findIndex((other) => other[key] === item[key])
    if (item.$patch === 'delete') result.splice(at, at < 0 ? 0 : 1)
    else if (at < 0) result.push(item)
    else result[at] = merged(result[at], item, true) as Json
  }
  return result
}

/** @throws Failure 415 for a way that the API does not have, 422 when a JSON Patch does not apply */
export function patched<T>(object: T, patch: unknown, contentType: string): T {
  if (contentType === 'application/json-patch+json') {
    if (!Array.isArray(patch)) throw badRequest('a JSON Patch is a list of operations')
    try {
      return jsonPatch.applyPatch(structuredClone(object), patch as Operation[], true).newDocument
    } catch (error) {
      throw new Failure(422, 'Invalid', `the JSON Patch does not apply: ${(error as Error).message.split('\n')[0]}`)
    }
  }
  if (contentType === 'application/merge-patch+json') return merged(object, patch, false) as T
  if (contentType === 'application/strategic-merge-patch+json' || contentType === 'application/apply-patch+yaml')
    return merged(object, patch, true) as T
  throw new Failure(415, 'UnsupportedMediaType', `the body of the request was in an unknown format: ${contentType}`)
}
