import { addSource } from '../../../engine/catalog/sources'

export default route(async (engine, event) => {
  const { name, settings, password } = accessFrom(await bodyOf(event, NewSource))
  return created(event, { id: await addSource(engine, { name, settings, password }) })
})
