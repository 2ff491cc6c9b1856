import { adapterOf } from '../../../engine/sources/adapter'

/** Tests a server that is not saved. */
export default route(async (engine, event) => adapterOf('postgres', accessFrom(await bodyOf(event, NewSource))).probe(engine.clock.now()))
