import { releaseNow } from '../../../engine/holds/release'

/** Releases everything that a run holds, because a person says so. */
export default route(async (engine, event) => releaseNow(engine, (await bodyOf(event, ReleaseNow)).run))
