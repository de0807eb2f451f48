import type { Tool } from '../parts/Commands'

// Commands for one repository or one image, by the tool that people have in hand.

const short = (repository: string) => repository.slice(repository.lastIndexOf('/') + 1)

// Reader is who reads the commands, and what for.
export interface Reader {
  address: string
  // tls tells whether the registry is reached over TLS.
  tls: boolean
  repository: string
  account?: string | undefined
  mayPush: boolean
}

// Both engines are called alike; what differs is where they are told that a registry
// has no TLS.
const engines = ['docker', 'podman'] as const

const hostOf = (address: string) => address.replace(/:\d+$/, '')

const isHere = (address: string) => hostOf(address) === 'localhost' || hostOf(address).startsWith('127.') || hostOf(address) === '[::1]'

// withoutTLS is how an engine is told to speak plain HTTP to the registry.
function withoutTLS(engine: (typeof engines)[number], { address, tls }: { address: string; tls: boolean }): Tool['lines'] {
  if (tls || (engine === 'docker' && isHere(address))) return []
  if (engine === 'docker') return [{ label: 'Without TLS', command: `{"insecure-registries": ["${address}"]}` }]
  return [{ label: 'Without TLS', command: `printf '[[registry]]\\nlocation = "${address}"\\ninsecure = true\\n' | sudo tee /etc/containers/registries.conf.d/${hostOf(address)}.conf` }]
}

const withoutTLSNote = (engine: string, r: { address: string; tls: boolean }) =>
  r.tls || (engine === 'docker' && isHere(r.address)) ? undefined
    : engine === 'docker' ? 'The registry has no TLS: this goes into /etc/docker/daemon.json, and the engine is started anew. Whoever is on the way can read and change what passes.'
      : 'The registry has no TLS: the engine has to be told once. Whoever is on the way can read and change what passes.'

export function repositoryTools(r: Reader, tag = 'TAG', digest?: string): Tool[] {
  const { address, repository, account, mayPush } = r
  const at = `${address}/${repository}`
  const name = account ?? 'ACCOUNT'
  const push = (command: string) => (mayPush ? [{ label: 'Push', command }] : [])
  const plain = !r.tls && !isHere(address) ? ' --unencrypted' : ''
  return [
    {
      name: 'Warthesis',
      lines: [
        { label: 'Log in', command: `warthesis login ${address} --account ${name}${plain}` },
        ...push(`warthesis push IMAGE ${at}:TAG${plain}`),
        { label: 'Pull', command: `warthesis pull ${at}:${tag} ./${short(repository)}${plain}` },
      ],
      note: 'Logging in asks for the password or a token.',
    },
    ...engines.map((engine) => ({
      name: engine,
      lines: [
        ...withoutTLS(engine, r),
        { label: 'Log in', command: `${engine} login ${address} --username ${name}` },
        ...(mayPush ? [{ label: 'Name it', command: `${engine} tag IMAGE ${at}:TAG` }] : []),
        ...push(`${engine} push ${at}:TAG`),
        { label: 'Pull', command: `${engine} pull ${at}:${tag}` },
      ],
      note: withoutTLSNote(engine, r) ?? 'Logging in asks for the password or a token.',
    })),
    {
      name: 'Build pipeline',
      lines: [
        { label: 'Log in', command: `printenv REGISTRY_TOKEN | warthesis login ${address} --account ${name} --from-stdin${plain}` },
        ...push(`warthesis push image.tar ${at}:"$VERSION" ${at}:latest${plain}`),
        ...(mayPush ? [] : [{ label: 'Pull', command: `warthesis pull ${at}:${tag} image.tar${plain}` }]),
      ],
      note: 'REGISTRY_TOKEN is a secret of the pipeline, and has the token of a machine account: best one that may push here and nothing else.',
    },
    {
      name: 'Cluster',
      lines: [
        { label: 'Pull secret', command: `warthesis pull-secret ${address}/${repository.split('/')[0]} --account MACHINE-ACCOUNT --kubernetes > pull-secret.json${plain}` },
        { label: 'In a manifest', command: `image: ${at}${digest ? `@${digest}` : `:${tag}`}` },
      ],
      note: digest && `The digest is what ${tag} points to now; it stays this image when the tag moves.`,
    },
  ]
}

export function imageTools(r: { address: string; tls: boolean }, repository: string, tag: string | undefined, digest: string): Tool[] {
  const byDigest = `${r.address}/${repository}@${digest}`
  const byName = tag ? `${r.address}/${repository}:${tag}` : byDigest
  const plain = !r.tls && !isHere(r.address) ? ' --unencrypted' : ''
  return [
    {
      name: 'Warthesis',
      lines: [
        { label: 'Pull', command: `warthesis pull ${byName} ./${short(repository)}${plain}` },
        { label: 'Digest', command: `warthesis identify ${byName}${plain}` },
        { label: 'Push here', command: `warthesis push IMAGE ${r.address}/${repository}:TAG${plain}` },
      ],
    },
    ...engines.map((engine) => ({
      name: engine,
      lines: [
        ...withoutTLS(engine, r),
        { label: 'Pull', command: `${engine} pull ${byName}` }, { label: 'Pull, pinned', command: `${engine} pull ${byDigest}` },
        { label: 'Push here', command: `${engine} push ${r.address}/${repository}:TAG` },
      ],
      note: withoutTLSNote(engine, r),
    })),
    { name: 'Cluster', lines: [{ label: 'In a manifest', command: `image: ${byDigest}` }], note: 'Pinned by digest: it stays this image, whatever the tag does.' },
    { name: 'Build file', lines: [{ label: 'Build on it', command: `FROM ${byDigest}` }] },
  ]
}
