import { probe } from '../../../engine/sources/postgres/probe'

/** Tests a server that is not saved. */
export default route(async (engine, event) => probe(accessFrom(await bodyOf(event, NewSource)), engine.clock.now()))
