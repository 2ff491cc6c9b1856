import { addStore } from '../../../engine/catalog/stores'

export default route(async (engine, event) => {
  const body = await bodyOf(event, NewStore)
  return created(event, await addStore(engine, { ...body, key: body.key || undefined }))
})
