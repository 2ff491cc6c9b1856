import { TriedSource } from '../../../core/asked'
import { accessTo } from '../../../engine/catalog/sources'
import { adapterOf } from '../../../engine/sources/adapter'

/** Tests a source that is not saved. */
export default route(async (engine, event) => adapterOf(accessTo(sourceFrom(await bodyOf(event, TriedSource)))).probe(engine.clock.now()))
