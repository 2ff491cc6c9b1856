import { NewSource } from '../../../core/asked'
import { addSource } from '../../../engine/catalog/sources'

export default route(async (engine, event) => created(event, { id: await addSource(engine, sourceFrom(await bodyOf(event, NewSource))) }))
