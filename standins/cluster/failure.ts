import type { ResourceType } from './resources'

/** What the API answers when something can't be done: an object of the kind Status. */
export class Failure extends Error {
  constructor(
    readonly code: number,
    readonly reason: string,
    message: string,
    readonly details: Record<string, unknown> = {},
  ) {
    super(message)
  }

  get status() {
    const { code, reason, message, details } = this
    return { kind: 'Status', apiVersion: 'v1', metadata: {}, status: 'Failure', message, reason, details, code }
  }
}

const named = ({ group, plural }: Pick<ResourceType, 'group' | 'plural'>) => (group ? `${plural}.${group}` : plural)
const about = (type: ResourceType, name: string) => ({ name, group: type.group, kind: type.plural })

export const notFound = (type: ResourceType, name: string) =>
  new Failure(404, 'NotFound', `${named(type)} "${name}" not found`, about(type, name))
export const exists = (type: ResourceType, name: string) =>
  new Failure(409, 'AlreadyExists', `${named(type)} "${name}" already exists`, about(type, name))
export const conflict = (type: ResourceType, name: string, why: string) =>
  new Failure(409, 'Conflict', `Operation cannot be fulfilled on ${named(type)} "${name}": ${why}`, about(type, name))
export const forbidden = (type: ResourceType, name: string, why: string) =>
  new Failure(403, 'Forbidden', `${named(type)} "${name}" is forbidden: ${why}`, about(type, name))
export const invalid = (type: ResourceType, name: string, field: string, why: string) =>
  new Failure(422, 'Invalid', `${type.kind}.${type.group} "${name}" is invalid: ${field}: ${why}`, {
    ...about(type, name),
    causes: [{ reason: 'FieldValueInvalid', message: why, field }],
  })
export const badRequest = (message: string) => new Failure(400, 'BadRequest', message)
export const unknownPath = () => new Failure(404, 'NotFound', 'the server could not find the requested resource')
