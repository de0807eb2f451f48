// Places of the console, as addresses.

export const repositoryPlace = (repository: string) => `/r/${repository}`

export const imagePlace = (repository: string, target: string) =>
  `/r/${repository}@${target.includes(':') ? target : `:${target}`}`

export interface ImageAddress {
  repository: string
  // reference is a tag or a digest, '' for the repository itself.
  reference: string
}

// readPlace takes apart what stands behind /r/: NAME, NAME@:TAG, NAME@DIGEST, and
// NAME:TAG as people write it.
export function readPlace(path: string): ImageAddress {
  const at = path.indexOf('@')
  const colon = path.lastIndexOf(':')
  if (at < 0 && colon > path.lastIndexOf('/')) return { repository: path.slice(0, colon), reference: path.slice(colon + 1) }
  if (at < 0) return { repository: path.replace(/\/$/, ''), reference: '' }
  const target = path.slice(at + 1)
  return { repository: path.slice(0, at), reference: target.startsWith(':') ? target.slice(1) : target }
}
