import type { Tool } from '../parts/Commands'

// Commands for one repository or one image, by the tool that people have in hand.

const short = (repository: string) => repository.slice(repository.lastIndexOf('/') + 1)

// Reader is who reads the commands, and what for.
export interface Reader {
  address: string
  repository: string
  account?: string | undefined
  // secret is a token made on the spot, '' for none.
  secret: string
  mayPush: boolean
}

export function repositoryTools({ address, repository, account, secret, mayPush }: Reader, tag = 'TAG', digest?: string): Tool[] {
  const at = `${address}/${repository}`
  const name = account ?? 'ACCOUNT'
  const push = (command: string) => (mayPush ? [{ label: 'Push', command }] : [])
  const token = secret || 'TOKEN'
  return [
    {
      name: 'Warthesis',
      lines: [
        { label: 'Log in', command: secret ? `echo ${secret} | warthesis login ${address} --account ${name} --from-stdin` : `warthesis login ${address} --account ${name}` },
        ...push(`warthesis push IMAGE ${at}:TAG`),
        { label: 'Pull', command: `warthesis pull ${at}:${tag} ./${short(repository)}` },
      ],
    },
    {
      name: 'Container engine',
      lines: [
        { label: 'Log in', command: secret ? `echo ${secret} | docker login ${address} --username ${name} --password-stdin` : `docker login ${address} --username ${name}` },
        ...(mayPush ? [{ label: 'Name it', command: `docker tag IMAGE ${at}:TAG` }] : []),
        ...push(`docker push ${at}:TAG`),
        { label: 'Pull', command: `docker pull ${at}:${tag}` },
      ],
    },
    {
      name: 'Build pipeline',
      lines: [
        { label: 'Secret', command: `REGISTRY_TOKEN=${token}` },
        { label: 'Log in', command: `printenv REGISTRY_TOKEN | warthesis login ${address} --account ${name} --from-stdin` },
        ...push(`warthesis push image.tar ${at}:"$VERSION" ${at}:latest`),
        ...(mayPush ? [] : [{ label: 'Pull', command: `warthesis pull ${at}:${tag} image.tar` }]),
      ],
      note: 'Best with the token of a machine account that may push here and nothing else.',
    },
    {
      name: 'Cluster',
      lines: [
        { label: 'Pull secret', command: `warthesis pull-secret ${address}/${repository.split('/')[0]} --kubernetes > pull-secret.json` },
        { label: 'In a manifest', command: `image: ${at}${digest ? `@${digest}` : `:${tag}`}` },
      ],
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
