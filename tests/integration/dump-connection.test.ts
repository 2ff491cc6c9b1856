import { createServer, type Socket } from 'node:net'
import { TLSSocket, createSecureContext } from 'node:tls'
import { generate } from 'selfsigned'
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { thingKey } from '../../core/restore/sql'
import { startProgram } from '../../engine/program'
import { accessOf } from '../../engine/catalog/sources'
import { withClient, type PostgresAccess } from '../../engine/sources/postgres/connect'
import { readStructure } from '../../engine/sources/postgres/utilities'
import { Workbench } from '../support/engine'

// To whom the dump utility speaks, and what it is told: exactly whom the driver trusts, and no option by a name.

let bench: Workbench
beforeAll(async () => {
  bench = await Workbench.open('create table item (id int primary key)')
})
afterAll(() => bench?.close())

/** Answers a request for TLS with a certificate of its own, and keeps what it is sent behind it. */
async function listener(pems: { private: string; cert: string }): Promise<{ port: number; heard: () => string; close: () => void }> {
  let heard = ''
  const sockets = new Set<Socket>()
  const server = createServer((socket) => {
    sockets.add(socket)
    socket
      .on('error', () => undefined)
      .once('data', () => {
        socket.write('S')
        const secure = new TLSSocket(socket, { isServer: true, secureContext: createSecureContext({ key: pems.private, cert: pems.cert }) })
        secure.on('error', () => undefined).on('data', (bytes) => (heard += bytes.toString('latin1')))
      })
  })
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  const close = () => {
    for (const socket of sockets) socket.destroy()
    server.close()
  }
  return { port: (server.address() as { port: number }).port, heard: () => heard, close }
}

const certificate = (name: string) => generate([{ name: 'commonName', value: name }])

describe('the dump utility', () => {
  it('gives nothing to a server whose certificate was signed by somebody else, where it is to be verified', async () => {
    const [trusted, other] = [await certificate('127.0.0.1'), await certificate('127.0.0.1')]
    const stranger = await listener(other)
    const access = await accessOf(bench.engine, 'db')
    const settings = { ...access.settings, port: stranger.port, tls: 'verified' as const }
    try {
      for (const authority of [trusted.cert, undefined]) {
        const verified: PostgresAccess = { ...access, settings: authority ? { ...settings, authority } : settings }
        await expect(withClient(access, bench.database, (client) => readStructure(verified, bench.database, client))).rejects.toThrow(
          /certificate verify failed/,
        )
      }
      expect(stranger.heard()).toBe('')
    } finally {
      stranger.close()
    }
  })

  it.each(['dbname=postgres host=127.0.0.1 port=1', 'postgresql://127.0.0.1:1/postgres', '--file=/tmp/x', 'it\'s "odd" \\ $(id)'])(
    'takes the name of a database for nothing else: %s',
    async (name) => {
      const quoted = `"${name.replaceAll('"', '""')}"`
      bench.sql(`create database ${quoted}`)
      try {
        const access = await accessOf(bench.engine, 'db')
        await withClient(access, name, (client) => client.query('create table public.only_here (id int primary key)'))
        const entries = await withClient(access, name, (client) => readStructure(access, name, client))
        expect(entries.filter(({ type }) => type === 'TABLE').map(({ name: table }) => table)).toEqual(['only_here'])
      } finally {
        bench.sql(`drop database ${quoted}`)
      }
    },
  )

  it.each(['a*', 'a?', 'a|b', '(a)', '--schema=other', 'x"."y', 'A.b', 'a\nb', '-', '$1', '\\', 'public'])(
    'leaves out a table that may not be read, and no other: %s',
    async (name) => {
      const quoted = `"${name.replaceAll('"', '""')}"`
      bench.sql(`create schema odd; create table odd.${quoted} (id int); create table odd.a (id int); create table odd.ab (id int)`)
      try {
        const access = await accessOf(bench.engine, 'db')
        const entries = await withClient(access, bench.database, (client) =>
          readStructure(access, bench.database, client, { without: [thingKey('odd', name)] }),
        )
        const tables = entries.filter(({ type, schema }) => type === 'TABLE' && schema === 'odd').map(({ name: table }) => table)
        expect(tables).toEqual(['a', 'ab'])
      } finally {
        bench.sql('drop schema odd cascade')
      }
    },
  )
})

describe('an outside program', () => {
  it('knows nothing of us: no keys, no addresses, no rest of our environment', async () => {
    vi.stubEnv('VESSEL_MASTER_KEY', 'ab'.repeat(32))
    const child = startProgram('/usr/bin/env', [], { environment: { PGHOST: 'a' }, stdio: ['ignore', 'pipe', 'inherit'] })
    const lines: string[] = []
    for await (const part of child.stdout!) lines.push(...String(part).trim().split('\n'))
    vi.unstubAllEnvs()
    expect(lines.map((line) => line.split('=')[0]).sort()).toEqual(['LC_ALL', 'PATH', 'PGHOST'])
  })

  it('is told names as they are, whatever they hold', async () => {
    const names = ['$(id)', '`id`', 'a b', "it's", '"', '\\', '*', '--help', 'a\nb', '💥', '']
    const child = startProgram('/usr/bin/printf', ['%s\\0', ...names], { stdio: ['ignore', 'pipe', 'inherit'] })
    const parts: Buffer[] = []
    for await (const part of child.stdout!) parts.push(part as Buffer)
    expect(Buffer.concat(parts).toString().split('\0').slice(0, -1)).toEqual(names)
  })
})
