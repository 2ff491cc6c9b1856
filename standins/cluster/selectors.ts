import { fitsLabels, parseLabelSelector } from '../../core/selection/labels'
import { badRequest } from './failure'
import type { KubeObject } from './resources'

/** Fields that can be selected by, of every type; what else is asked for is refused, as the API does. */
const FIELDS = /^(metadata\.(name|namespace)|status\.phase|spec\.(nodeName|type)|involvedObject\.(kind|name|namespace|uid)|type|reason)$/

function valueAt(object: KubeObject, path: string): string {
  let at: unknown = object
  for (const part of path.split('.')) at = (at as Record<string, unknown> | undefined)?.[part]
  return at === undefined || at === null ? '' : String(at)
}

/** A test for objects from the query of a list or a watch. */
export function selected(query: URLSearchParams): (object: KubeObject) => boolean {
  const { selector, trouble } = parseLabelSelector(query.get('labelSelector') ?? '')
  if (!selector) throw badRequest(`unable to parse the label selector: ${trouble}`)
  const fields = (query.get('fieldSelector') ?? '')
    .split(',')
    .filter(Boolean)
    .map((part) => {
      const match = /^([^=!]+)(!=|==?)(.*)$/.exec(part)
      if (!match || !FIELDS.test(match[1]!)) throw badRequest(`field label not supported: ${match?.[1] ?? part}`)
      return { path: match[1]!, not: match[2] === '!=', value: match[3]! }
    })
  return (object) =>
    fitsLabels(selector, object.metadata.labels ?? {}) && fields.every(({ path, not, value }) => (valueAt(object, path) === value) !== not)
}
