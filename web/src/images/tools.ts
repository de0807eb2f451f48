import type { Tool } from '../parts/Commands'

// Commands for one repository or one image, by the tool that people have in hand.

const short = (repository: string) => repository.slice(repository.lastIndexOf('/') + 1)

export function repositoryTools(address: string, repository: string, tag = 'TAG', digest?: string): Tool[] {
  const at = `${address}/${repository}`
  return [
    {
      name: 'Warthesis',
      lines: [
        { label: 'Push', command: `warthesis push IMAGE ${at}:TAG` },
        { label: 'Pull', command: `warthesis pull ${at}:${tag} ./${short(repository)}` },
      ],
    },
    {
      name: 'Container engine',
      lines: [
        { label: 'Name it', command: `docker tag IMAGE ${at}:TAG` },
        { label: 'Push', command: `docker push ${at}:TAG` },
        { label: 'Pull', command: `docker pull ${at}:${tag}` },
      ],
    },
    {
      name: 'Cluster',
      lines: [{ label: 'In a manifest', command: `image: ${at}${digest ? `@${digest}` : `:${tag}`}` }],
      note: digest && `The digest is what ${tag} points to now; it stays this image when the tag moves.`,
    },
  ]
}

export function imageTools(address: string, repository: string, tag: string | undefined, digest: string): Tool[] {
  const byDigest = `${address}/${repository}@${digest}`
  const byName = tag ? `${address}/${repository}:${tag}` : byDigest
  return [
    {
      name: 'Warthesis',
      lines: [
        { label: 'Pull', command: `warthesis pull ${byName} ./${short(repository)}` },
        { label: 'Digest', command: `warthesis identify ${byName}` },
        { label: 'Push here', command: `warthesis push IMAGE ${address}/${repository}:TAG` },
      ],
    },
    { name: 'Container engine', lines: [{ label: 'Pull', command: `docker pull ${byName}` }, { label: 'Pull, pinned', command: `docker pull ${byDigest}` }, { label: 'Push here', command: `docker push ${address}/${repository}:TAG` }] },
    { name: 'Cluster', lines: [{ label: 'In a manifest', command: `image: ${byDigest}` }], note: 'Pinned by digest: it stays this image, whatever the tag does.' },
    { name: 'Build file', lines: [{ label: 'Build on it', command: `FROM ${byDigest}` }] },
  ]
}
