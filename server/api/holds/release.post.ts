import { releaseNow } from '../../../engine/holds/release'

/** Releases everything that a run holds, or with `all` everything there is, because a person says so. */
export default route(async (engine, event) => {
  const { run } = await bodyOf(event, ReleaseNow)
  return releaseNow(engine, run)
})
