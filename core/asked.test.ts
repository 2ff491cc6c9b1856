import { getDotPath, safeParse, type GenericSchema } from 'valibot'
import { describe, expect, it } from 'vitest'
import { Access, Named, NewSource, NewStore } from './asked'

/** What stands beside each field. */
const told = (schema: GenericSchema, given: unknown) =>
  Object.fromEntries((safeParse(schema, given).issues ?? []).map((issue) => [getDotPath(issue), issue.message]))

const settings = { host: 'db.ferries.example', port: 5432, user: 'vessel', database: 'postgres', tls: 'off' }
const SERVER = { name: 'ferry-db', password: '', settings }
const CLUSTER = { name: 'pier', cluster: { server: 'https://pier.ferries.example:6443', token: 'secret', authority: '' } }

describe('what a form asks for', () => {
  it('is told beside the field that lacks it', () => {
    expect(told(NewSource, { ...SERVER, name: ' ', settings: { ...settings, host: '', user: ' ', port: 70_000 } })).toMatchObject({
      name: 'Give it a name.',
      'settings.host': 'The address is missing.',
      'settings.user': 'The user is missing.',
      'settings.port': 'A port is 1 to 65535.',
    })
    expect(told(NewSource, { name: 'pier', kubeconfig: '' })).toEqual({ kubeconfig: 'The kubeconfig is missing.' })
    expect(told(NewSource, { name: 'ferry-db', connection: ' ' })).toEqual({ connection: 'The connection string is missing.' })
    expect(told(NewStore, { name: 'north', path: '', key: 'abc' })).toMatchObject({ key: 'A key is 64 hex digits.' })
  })

  it('is taken when it is whole', () => {
    for (const source of [SERVER, CLUSTER, { name: 'pier', kubeconfig: 'apiVersion: v1' }]) expect(told(NewSource, source)).toEqual({})
  })

  it('needs the token of a new cluster, and keeps that of a known one when none is given', () => {
    const { name: _, cluster } = CLUSTER
    const without = { cluster: { ...cluster, token: '' } }
    expect(told(NewSource, { name: 'pier', ...without })).toEqual({ 'cluster.token': 'The token is missing.' })
    expect(told(Access, without)).toEqual({})
  })

  it.each(['a/b', 'all*', 'what?', ' blank'])('is no name of a source that a path could not begin with: “%s”', (name) => {
    expect(Object.keys(told(NewSource, { ...SERVER, name }))).toEqual(['name'])
  })

  it('is a name by which it is found again', () => {
    expect(told(Named, { name: 'Bookings, nightly' })).toEqual({})
    expect(told(Named, { name: '' })).toEqual({ name: 'The name needs a letter or a digit at least.' })
    expect(told(Named, { name: 'x'.repeat(81) })).toEqual({ name: 'The name has 81 characters, and may have 80.' })
    expect(told(Named, { name: 'a\u200bb' })).toEqual({ name: 'The name holds a character that can’t be seen.' })
  })
})
