import { vesselBySlug } from '../../../../engine/catalog/vessels'

/** Starts a backup of this vessel, or an audit of its log. */
export default route(async (engine, event) => {
  const { kind, what, name, comment, keepDays } = await bodyOf(event, NewRun)
  const vessel = await vesselBySlug(engine, slugOf(event))
  return created(event, {
    id: await engine.startRun({
      kind,
      vessel,
      startedBy: PERSON,
      name,
      comment,
      params: kind === 'backup' ? { what, ...(keepDays === undefined ? {} : { keepDays }) } : {},
    }),
  })
})
