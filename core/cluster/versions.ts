/** How objects name the group and version that they are of. */
export const apiVersionOf = ({ group, version }: { group: string; version: string }) => (group === '' ? version : `${group}/${version}`)
/** The group in such a name. */
export const groupOf = (apiVersion = '') => (apiVersion.includes('/') ? apiVersion.split('/')[0]! : '')
export const versionOf = (apiVersion = '') => apiVersion.slice(apiVersion.indexOf('/') + 1)
