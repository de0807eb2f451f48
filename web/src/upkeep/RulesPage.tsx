import { Box, Button, Link, Paper, TextField, Typography } from '@mui/material'
import { useEffect, useState } from 'react'
import { Link as Route, useSearchParams } from 'react-router'
import { Refusal, type Schemas } from '../api/client'
import { type At, type RuleList, useRemoveRules, useRules, useSetRules, useTryRules } from '../api/rules'
import { useMe } from '../api/session'
import { When } from '../parts/Amounts'
import { Ask, Field, Said, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { Trouble, Waiting } from '../parts/States'
import { mono } from '../theme'
import { Places, RuleTabs, titleOf } from './Places'

const example = '# The first rule that speaks of a tag decides.\n- free: ["*:latest", "*:stable"]\n- seal: "*:<version>"\n  because: what runs must stay what it was\n'

// RulesPage shows the list of rules of one place, and lets who may change it see first what
// it would do.
export function RulesPage() {
  const [asked, ask] = useSearchParams()
  const at: At = { ...(asked.get('place') && { place: asked.get('place')! }), ...(asked.get('list') && { list: asked.get('list')! }) }
  const rules = useRules(at)
  const me = useMe()
  // A list whose name is free is made by setting it.
  const fresh = at.list !== undefined && me.data?.admin && rules.error instanceof Refusal && rules.error.status === 404
  return (
    <Page title={titleOf(at)} beside={<Typography color="textSecondary">which tags neither move nor go</Typography>} do={<Places kind="immutability" at={at} onGo={(to) => ask(to as Record<string, string>)} />}>
      <RuleTabs />
      {rules.isPending && <Waiting />}
      {fresh && <RulesOf key={JSON.stringify(at)} at={at} list={{ kind: 'immutability', list: at.list!, words: '', rules: [], used_by: [] }} />}
      {rules.error && !fresh && <Trouble asked="Reading the rules" error={rules.error} again={() => void rules.refetch()} />}
      {rules.data && !rules.isPlaceholderData && <RulesOf key={JSON.stringify(at)} at={at} list={rules.data} />}
    </Page>
  )
}

function RulesOf({ at, list }: { at: At; list: RuleList }) {
  const me = useMe()
  const [words, setWords] = useState(list.words || example)
  const [reason, setReason] = useState('')
  const [name, setName] = useState('')
  const set = useSetRules(at)
  const remove = useRemoveRules(at)
  const look = useTryRules(at)
  const manages = me.data?.admin || (at.place !== undefined && (me.data?.roles.some((r) => r.role === 'owner' && (r.place === '' || r.place === at.place || at.place!.startsWith(`${r.place}/`))) ?? false))
  useEffect(() => {
    // What is there is looked at first, so that the page answers what it does now.
    if (manages) look.mutate({ words: list.words })
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [manages])
  const [repository, tag] = [name.slice(0, name.lastIndexOf(':')), name.slice(name.lastIndexOf(':') + 1)]
  const named = name.includes(':') && repository !== '' && tag !== ''
  const tries = () => look.mutate({ words, ...(named && { repository, tag }) })
  const dirty = words !== (list.words || example)
  return (
    <>
      <Section title={list.changed_at ? 'The rules, in the order in which they are asked' : 'No rules yet'}>
        {list.rules.length === 0 && <Typography color="textSecondary">Nothing is sealed by rules of this place. Rules of wider places act here all the same.</Typography>}
        <Box component="ol" sx={{ m: 0, pl: 3 }}>
          {list.rules.map((r) => (
            <Box key={r.number} component="li" sx={{ py: 0.25 }}>
              <Box component="span" sx={{ fontFamily: mono, fontSize: '0.8125rem', overflowWrap: 'anywhere' }}>{r.use ? <>use: <Link component={Route} underline="always" to={`/rules?list=${r.use}`}>{r.use}</Link></> : r.words}</Box>
              {r.because && <Typography component="span" color="textSecondary"> — {r.because}</Typography>}
            </Box>
          ))}
        </Box>
        {list.changed_at && (
          <Typography variant="body2" color="textSecondary" sx={{ mt: 1 }}>
            Set <When at={list.changed_at} /> by {list.changed_by}: {list.reason}
            {list.list && ` · used by ${list.used_by.join(', ') || 'nobody'}`}
          </Typography>
        )}
      </Section>
      {manages && (
        <Box sx={{ display: 'grid', gridTemplateColumns: 'minmax(0, 1fr) minmax(0, 1fr)', gap: 2, alignItems: 'start' }}>
          <Section title="Change them">
            <Box component="form" sx={{ display: 'grid', gap: 1.5 }} onSubmit={(e) => {
              e.preventDefault()
              set.mutate({ words, reason })
            }}>
              <TextField
                label="The whole list, as YAML" value={words} onChange={(e) => setWords(e.target.value)} multiline minRows={8} maxRows={24} fullWidth
                slotProps={{ htmlInput: { spellCheck: false, style: { fontFamily: mono, fontSize: '0.8125rem' } } }}
              />
              <Field label="Why" value={reason} onChange={setReason} hint="It stands in the audit log." />
              <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap' }}>
                <Button type="submit" variant="contained" disableElevation disabled={set.isPending || reason.trim() === '' || !dirty}>Set them</Button>
                <Button variant="outlined" onClick={tries} disabled={look.isPending}>See what they would do</Button>
                {list.changed_at && (
                  <Ask
                    name="Remove them" question={`Remove the ${titleOf(at).toLowerCase()}?`} action="Remove them" busy={remove.isPending} error={remove.error} ready={reason.trim() !== ''}
                    consequence={reason.trim() === '' ? 'Write why into the field first: it stands in the audit log.' : 'What they seal can move from then on. Set them again to get them back.'}
                    onDo={(close) => remove.mutate(reason, { onSuccess: close })}
                  />
                )}
                {set.isSuccess && <Typography role="status">Set.</Typography>}
              </Box>
              <Said error={set.error} />
            </Box>
          </Section>
          <Section title={dirty ? 'What they would do' : 'What they do now'}>
            <Box component="form" sx={{ display: 'flex', gap: 1.5, mb: 1.5, alignItems: 'start' }} onSubmit={(e) => {
              e.preventDefault()
              tries()
            }}>
              <Field label="Try them on a name" value={name} onChange={setName} hint={`as in ${at.place?.includes('/') ? at.place : `${at.place ?? 'timetable'}/relay`}:1.2.3`} />
              <Button type="submit" variant="outlined" disabled={!named || look.isPending} sx={{ mt: 0.25 }}>Try</Button>
            </Box>
            <Said error={look.error} />
            {look.data?.tried && <Tried tried={look.data.tried} />}
            {look.data && <Preview preview={look.data} />}
          </Section>
        </Box>
      )}
    </>
  )
}

function Tried({ tried }: { tried: Schemas['RuleExplanation'] }) {
  return (
    <Paper variant="outlined" sx={{ p: 1.5, mb: 1.5 }} role="status" aria-label="What decides">
      <Typography sx={{ overflowWrap: 'anywhere' }}>
        {tried.seal ? <>{tried.tag} would be sealed: {tried.seal.why}.</> : tried.there ? `${tried.tag} could move and go.` : `There is no tag ${tried.tag}; one can be made. Of one made just now:`}
      </Typography>
      <Box component="ol" sx={{ m: 0, mt: 1, pl: 0, listStyle: 'none', fontSize: '0.8125rem' }}>
        {tried.answers.map((a, i) => (
          <Box key={i} component="li" sx={{ py: 0.25, color: a.decides ? 'text.primary' : 'text.secondary', fontWeight: a.decides ? 600 : 400, overflowWrap: 'anywhere' }}>
            <Box component="span" sx={{ fontFamily: mono }}>{a.words}</Box> · {a.decides ? 'decides' : a.why_not}
          </Box>
        ))}
      </Box>
    </Paper>
  )
}

function Preview({ preview: p }: { preview: Schemas['RulePreview'] }) {
  return (
    <Box sx={{ display: 'grid', gap: 1 }}>
      {p.reaches === 0 ? (
        <Typography color="warning.main">They speak of no repository that is there now.</Typography>
      ) : (
        <Typography>They speak of {p.reaches === 1 ? '1 repository' : `${p.reaches} repositories`}: {p.repositories.slice(0, 6).join(', ')}{p.reaches > 6 && ' …'}</Typography>
      )}
      <Typography>Of {p.tags.toLocaleString('en')} tags {p.sealed.toLocaleString('en')} {p.newly_sealed + p.freed > 0 ? `would be sealed: ${p.newly_sealed} that are not now; ${p.freed} would be free that are sealed now.` : 'are sealed.'}</Typography>
      <Typography>Of what was done to tags in the last 30 days they would have refused {p.refused === 0 ? 'nothing' : p.refused}.</Typography>
      {p.more && <Typography color="warning.main">There is more than was looked at: look at a smaller place.</Typography>}
      <Lines title="Sealed then" rows={p.seals.map((s) => [`${s.repository}:${s.tag}`, s.why])} />
      <Lines title="Free then" rows={p.frees.map((s) => [`${s.repository}:${s.tag}`, s.why])} />
      <Lines title="Refused then" rows={p.refusals.map((r) => [`${r.act} ${r.repository}:${r.tag}`, `by ${r.by ?? 'nobody'}; ${r.why}`])} />
    </Box>
  )
}

function Lines({ title, rows }: { title: string; rows: [string, string][] }) {
  const [all, setAll] = useState(false)
  if (rows.length === 0) return null
  return (
    <div>
      <Typography variant="h3">{title}</Typography>
      {rows.slice(0, all ? rows.length : 5).map(([name, why], i) => (
        <Typography key={i} variant="body2" sx={{ overflowWrap: 'anywhere' }} title={why}>{name}</Typography>
      ))}
      {rows.length > 5 && <Link component="button" type="button" onClick={() => setAll(!all)}>{all ? 'fewer' : `all ${rows.length}`}</Link>}
    </div>
  )
}
