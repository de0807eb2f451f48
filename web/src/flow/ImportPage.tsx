import { Box, Button, LinearProgress, Link, Typography } from '@mui/material'
import { Link as Route, useNavigate, useParams } from 'react-router'
import { type Import, type ImportReport, isRunning, useImport, useRemoveImport, useRunImport } from '../api/carried'
import { useMe } from '../api/session'
import { Size, When } from '../parts/Amounts'
import { Digest } from '../parts/Digest'
import { Ask, Said, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { PlainTable } from '../parts/PlainTable'
import { RowTable } from '../parts/RowTable'
import { Trouble, Waiting } from '../parts/States'
import { Why } from '../parts/Why'
import { whatOf } from './Imports'

// ImportPage shows one import: what it brings, how both sides stand, and when that was found.
export function ImportPage() {
  const { name = '' } = useParams()
  const found = useImport(name)
  const me = useMe()
  const i = found.data
  return (
    <Page title={`Import ${name}`} over={<Link component={Route} to="/flow" underline="always">Flow</Link>} beside={i && <Typography color="textSecondary">{whatOf(i)} from {i.peer}, {i.when ? `at ${i.when}` : 'by hand'}</Typography>} do={me.data?.admin && i && <Does of={i} />}>
      {found.isPending && <Waiting />}
      {found.error && <Trouble asked="Looking for the import" error={found.error} again={() => void found.refetch()} />}
      {i && isRunning(i) && <Running of={i} />}
      {i && !isRunning(i) && !i.report?.equal && <Typography color={i.state === 'failed' ? 'error' : undefined} sx={{ mb: 2 }}>{i.says ?? 'It never ran.'}{i.ended_at && <Typography component="span" color="textSecondary"> · <When at={i.ended_at} /></Typography>}</Typography>}
      {i?.report && <Report of={i.report} />}
    </Page>
  )
}

function Does({ of: i }: { of: Import }) {
  const run = useRunImport(i.name)
  const remove = useRemoveImport()
  const go = useNavigate()
  const busy = run.isPending || isRunning(i)
  return (
    <Box sx={{ display: 'flex', gap: 1, alignItems: 'center' }}>
      <Said error={run.error} />
      <Button size="small" variant="contained" disableElevation disabled={busy} onClick={() => run.mutate(false)}>Bring in what differs</Button>
      <Button size="small" variant="outlined" disabled={busy} onClick={() => run.mutate(true)}>Only compare</Button>
      <Ask
        name="Remove it" question={`Remove the import ${i.name}?`} action="Remove it" busy={remove.isPending} error={remove.error}
        consequence="What it brought stays. To get it back, make it again: both sides are compared then."
        onDo={(close) => remove.mutate(i.name, { onSuccess: () => { close(); void go('/flow') } })}
      />
    </Box>
  )
}

function Running({ of: i }: { of: Import }) {
  const total = i.total ?? 0
  return (
    <Box role="status" sx={{ mb: 2 }}>
      <LinearProgress variant={total > 0 ? 'determinate' : 'indeterminate'} aria-label="How far the import is" value={total > 0 ? (100 * (i.done ?? 0)) / total : 0} sx={{ mb: 0.5, borderRadius: 1 }} />
      {i.step ?? 'waiting'}{total > 0 && `: ${(i.done ?? 0).toLocaleString('en')} of ${total.toLocaleString('en')} repositories`}
    </Box>
  )
}

const count = (n: number) => (n > 0 ? n.toLocaleString('en') : '–')

function Report({ of: r }: { of: ImportReport }) {
  const t = r.totals
  return (
    <>
      {r.equal && (
        <Box sx={{ border: 1, borderColor: 'primary.main', borderRadius: 1, p: 1.5, mb: 2 }}>
          <Typography>Both sides are equal by digest: {t.tags.toLocaleString('en')} tags in {t.repositories.toLocaleString('en')} repositories.</Typography>
          {r.compared_until && <Typography color="textSecondary">Compared until <When at={r.compared_until} /> ({r.compared_until}), after all was brought.</Typography>}
        </Box>
      )}
      {r.preview && <Typography color="textSecondary" sx={{ mb: 1 }}>This was a comparison: nothing was brought.</Typography>}
      <Typography sx={{ mb: 2 }}>{t.equal.toLocaleString('en')} tags equal, {t.lacks.toLocaleString('en')} lack here, {t.behind.toLocaleString('en')} behind, {t.ours.toLocaleString('en')} moved here, {t.extra.toLocaleString('en')} here alone, {t.failed.toLocaleString('en')} failed; {t.brought.toLocaleString('en')} brought, <Size bytes={t.sent} />.</Typography>
      {r.namespaces.some((n) => !n.there) && (
        <Section title={r.preview ? 'Namespaces that it would make' : 'Namespaces that it made'}>
          <PlainTable
            label="Namespaces" rows={r.namespaces.filter((n) => !n.there)} rowKey={(n) => n.name}
            columns={[{ title: 'Namespace', cell: (n) => n.name }, { title: 'Repositories', number: true, width: 110, cell: (n) => n.repositories.toLocaleString('en') }, { title: 'What may be said of it', cell: (n) => n.description ?? '–' }]}
          />
        </Section>
      )}
      <Section title="Repositories">
        <Box sx={{ height: Math.min(420, 40 + 36 * Math.max(3, r.repositories.length)), display: 'flex', flexDirection: 'column' }}>
          <RowTable
            label="Repositories" rows={r.repositories} rowKey={(p) => p.to} sort="name" more={false} onMore={() => undefined}
            columns={[
              { title: 'Repository', width: 'minmax(0, 1fr)', cell: (p) => <><Link component={Route} to={`/r/${p.to}`} underline="always">{p.to}</Link>{p.why && <Why of={p.to}>{p.why}</Why>}</> },
              { title: 'Tags', width: '70px', number: true, cell: (p) => count(p.tags) }, { title: 'Equal', width: '70px', number: true, cell: (p) => count(p.equal) }, { title: 'Lack', width: '70px', number: true, cell: (p) => count(p.lacks) },
              { title: 'Behind', width: '70px', number: true, cell: (p) => count(p.behind) }, { title: 'Moved here', width: '90px', number: true, cell: (p) => count(p.ours) }, { title: 'Here alone', width: '90px', number: true, cell: (p) => count(p.extra) },
              { title: 'Failed', width: '70px', number: true, cell: (p) => count(p.failed) }, { title: 'Brought', width: '80px', number: true, cell: (p) => count(p.brought) },
            ]}
          />
        </Box>
      </Section>
      {r.differs.length > 0 && (
        <Section title="Tags that are not equal">
          <Box sx={{ height: Math.min(420, 40 + 36 * Math.max(3, r.differs.length)), display: 'flex', flexDirection: 'column' }}>
            <RowTable
              label="Tags that are not equal" rows={r.differs} rowKey={(d) => `${d.repository}:${d.tag}:${d.state}`} sort="name" more={false} onMore={() => undefined}
              columns={[
                { title: 'Tag', width: 'minmax(0, 1fr)', cell: (d) => <>{d.repository}:{d.tag}{d.why && <Why of={`${d.repository}:${d.tag}`}>{d.why}</Why>}</> },
                { title: 'Is', width: '130px', cell: (d) => d.state },
                { title: 'There', width: '190px', cell: (d) => (d.there ? <Digest digest={d.there} /> : '–') }, { title: 'Here', width: '190px', cell: (d) => (d.here ? <Digest digest={d.here} /> : '–') },
              ]}
            />
          </Box>
        </Section>
      )}
    </>
  )
}
