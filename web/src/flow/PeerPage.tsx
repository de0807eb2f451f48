import { Box, Breadcrumbs, Button, Link, Typography } from '@mui/material'
import { Link as Route, useNavigate, useParams, useSearchParams } from 'react-router'
import { useRows } from '../api/asking'
import { namesOf, type Peer, usePeerImage, usePeerNames, usePeers, useRemovePeer, useTestPeer } from '../api/flow'
import { useMe } from '../api/session'
import { Size, When } from '../parts/Amounts'
import { Digest } from '../parts/Digest'
import { Ask, Said, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { PlainTable } from '../parts/PlainTable'
import { RowTable } from '../parts/RowTable'
import { Trouble, Waiting } from '../parts/States'
import { Steps } from './Steps'

// PeerPage shows one peer: how it is reached, what it can do, and what is in it.
export function PeerPage() {
  const { name = '' } = useParams()
  const peers = usePeers()
  const me = useMe()
  const peer = peers.data?.peers.find((p) => p.name === name)
  return (
    <Page title={`Peer ${name}`} beside={peer && <Typography color="textSecondary">{peer.description || peer.address}</Typography>} do={me.data?.admin && peer && <Does peer={peer} />}>
      {peers.isPending && <Waiting />}
      {peers.error && <Trouble asked="Looking for the peer" error={peers.error} again={() => void peers.refetch()} />}
      {peers.data && !peer && <Typography>There is no peer of that name. <Link component={Route} to="/flow" underline="always">All peers</Link></Typography>}
      {peer && <About peer={peer} />}
      {peer && me.data?.admin && <Inside name={name} />}
    </Page>
  )
}

function Does({ peer }: { peer: Peer }) {
  const remove = useRemovePeer()
  const test = useTestPeer()
  const go = useNavigate()
  return (
    <Box sx={{ display: 'flex', gap: 1, alignItems: 'center' }}>
      <Said error={test.error} />
      <Button size="small" variant="outlined" disabled={test.isPending} onClick={() => test.mutate(peer.name)}>{test.isPending ? 'Testing …' : 'Test it'}</Button>
      <Ask
        name="Remove it" question={`Remove the peer ${peer.name}?`} action="Remove it" busy={remove.isPending} error={remove.error}
        consequence="Its login is forgotten; what came from it stays. To get it back, make it again with its login."
        onDo={(close) => remove.mutate(peer.name, { onSuccess: () => { close(); void go('/flow') } })}
      />
    </Box>
  )
}

const yes = (is: boolean | undefined) => (is === undefined ? 'not tried' : is ? 'yes' : 'no')

function About({ peer: p }: { peer: Peer }) {
  const facts: [string, React.ReactNode][] = [
    ['Address', p.unencrypted ? `${p.address}, by plain HTTP` : p.address],
    ...(p.prefix ? [['Prefix', p.prefix] as [string, string]] : []),
    ['As', p.account ?? 'without a login'],
    ...(p.authority ? [['Believed by', p.authority] as [string, string]] : []),
    ...(p.fingerprint ? [['Fingerprint', p.fingerprint] as [string, string]] : []),
    ...(p.client_certificate ? [['Is shown', p.client_certificate] as [string, string]] : []),
    ['A registry of ours', yes(p.can.digests)], ['Lists its repositories', yes(p.can.catalogue)], ['Tells what refers to an image', yes(p.can.referrers)],
    ['Removes tags alone', yes(p.can.deletes_tags)], ['Takes blobs in pieces', yes(p.can.chunks)],
    ['Used', p.used_by.length > 0 ? p.used_by.join(', ') : 'by nothing'],
    ['Made', <><When at={p.made_at} />{p.made_by && ` by ${p.made_by}`}</>],
  ]
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: 'minmax(0, 1fr) minmax(0, 1fr)', columnGap: 2, alignItems: 'start' }}>
      <Section title="How it is reached, and what it can do">
        <Box component="dl" sx={{ m: 0, display: 'grid', gridTemplateColumns: '190px minmax(0, 1fr)', rowGap: 0.5 }}>
          {facts.map(([name, value]) => [
            <Typography key={`${name} is`} component="dt" color="textSecondary">{name}</Typography>,
            <Typography key={name} component="dd" sx={{ m: 0, overflowWrap: 'anywhere' }}>{value}</Typography>,
          ])}
        </Box>
      </Section>
      <Section title="The last test" beside={<Typography color="textSecondary"><When at={p.tested_at} /></Typography>}><Steps steps={p.steps} /></Section>
    </Box>
  )
}

// Inside looks into a peer with the login of this registry.
function Inside({ name }: { name: string }) {
  const [asked] = useSearchParams()
  const [repository, tag] = [asked.get('repository') ?? '', asked.get('tag') ?? '']
  const to = (r: string, t?: string) => `/peer/${name}?repository=${encodeURIComponent(r)}${t ? `&tag=${encodeURIComponent(t)}` : ''}`
  return (
    <Section
      title={tag ? 'An image there' : repository ? 'Tags there' : 'Repositories there'}
      beside={(
        <Breadcrumbs aria-label="Where this is">
          {repository ? <Link component={Route} to={`/peer/${name}`} underline="always">{name}</Link> : <span>{name}</span>}
          {repository && (tag ? <Link component={Route} to={to(repository)} underline="always">{repository}</Link> : <span>{repository}</span>)}
          {tag && <span>{tag}</span>}
        </Breadcrumbs>
      )}
    >
      {tag ? <ImageThere name={name} repository={repository} tag={tag} /> : <Names key={repository} name={name} repository={repository} to={(n) => (repository ? to(repository, n) : to(n))} />}
    </Section>
  )
}

function Names({ name, repository, to }: { name: string; repository: string; to: (name: string) => string }) {
  const list = usePeerNames(name, repository)
  const { rows, paging } = useRows(list, namesOf)
  if (list.isPending) return <Waiting />
  if (list.error) return <Trouble asked="Looking into the peer" error={list.error} again={() => void list.refetch()} />
  if (rows.length === 0) return <Typography color="textSecondary">There is nothing.</Typography>
  return (
    <Box sx={{ height: Math.min(420, 40 + 36 * Math.max(4, rows.length)), display: 'flex', flexDirection: 'column' }}>
      <RowTable label="Names there" rows={rows} rowKey={(n) => n} sort="name" place={to} more={paging.more} onMore={paging.onMore} columns={[{ title: repository ? 'Tag' : 'Repository', width: '1fr', cell: (n) => n }]} />
    </Box>
  )
}

function ImageThere({ name, repository, tag }: { name: string; repository: string; tag: string }) {
  const image = usePeerImage(name, repository, tag)
  if (image.isPending) return <Waiting />
  if (image.error) return <Trouble asked="Looking into the image" error={image.error} />
  const i = image.data
  return (
    <>
      <Typography component="div" sx={{ mb: 1 }}><Digest digest={i.digest} /> · {i.media_type} · <Size bytes={i.content_size} /></Typography>
      <PlainTable
        label="Platforms" rows={i.platforms} rowKey={(p) => p.digest}
        columns={[
          { title: 'Platform', cell: (p) => p.platform ?? '–' }, { title: 'Digest', cell: (p) => <Digest digest={p.digest} /> }, { title: 'Size', number: true, width: 90, cell: (p) => <Size bytes={p.content_size} /> },
          { title: 'Layers', number: true, width: 70, cell: (p) => p.layers.length }, { title: 'Runs', cell: (p) => (p.run ? [...p.run.entrypoint, ...p.run.command].join(' ') || '–' : '–') },
        ]}
      />
    </>
  )
}
