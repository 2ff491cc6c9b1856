import { scratchConnection } from '../../../../engine/catalog/scratch-views'

/** The connection string of a scratch copy, with the password that only it has. */
export default route(async (engine, event) => ({ connection: await scratchConnection(engine, idOf(event)) }))
