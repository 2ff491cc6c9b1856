import pg from 'pg'
import { describe, expect, it } from 'vitest'
import { isAway, openCatalog } from '../../engine/catalog/connect'
import { testServer } from '../support/engine'

// However a connection to the catalog breaks, the driver's words for it are understood: the catalog is away.

const failure = (work: Promise<unknown>): Promise<Error> =>
  work.then(
    () => expect.fail('it went through'),
    (error: Error) => error,
  )

describe('a connection to the catalog that breaks', () => {
  it.each([
    ['in the middle of a statement', 'select pg_sleep(60)'],
    ['between two statements', undefined],
  ])('%s is told as a catalog that is away, at every statement that follows', async (_, statement) => {
    const { db, pool } = openCatalog(testServer().url('postgres'))
    const other = new pg.Client({ connectionString: testServer().url('postgres') })
    await other.connect()
    const client = await pool.connect()
    try {
      const { rows } = await client.query<{ pid: number }>('select pg_backend_pid() as pid')
      const running = statement && failure(client.query(statement))
      const ended = new Promise((resolve) => client.once('end', resolve))
      await other.query('select pg_terminate_backend($1)', [rows[0]?.pid])
      await ended
      const errors = [...(running ? [await running] : []), await failure(client.query('select 1')), await failure(client.query('commit'))]
      expect(errors.filter((error) => !isAway(error)).map(({ message }) => message)).toEqual([])
    } finally {
      client.release(true)
      await Promise.all([other.end(), db.destroy()])
    }
  })
})
