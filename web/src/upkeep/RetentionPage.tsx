import { Box, Button, Link, TextField, Typography } from '@mui/material'
import { useEffect, useState } from 'react'
import { Link as Route, useSearchParams } from 'react-router'
import { Refusal } from '../api/client'
import { useActRules, useExplainRetention, useRetention, useRunRetention, useTryRetention } from '../api/retention'
import { type At, type RuleList, useRemoveRules, useRules, useSetRules } from '../api/rules'
import { useMe } from '../api/session'
import { Left, When } from '../parts/Amounts'
import { Ask, Field, Said, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { Trouble, Waiting } from '../parts/States'
import { mono } from '../theme'
import { Places, RuleTabs, titleOf } from './Places'
import { Preview } from './RetentionPreview'

const example = `# The first rule that means a tag decides; what none means stays.
- keep: "*:<release>"
  newest: 8
- drop: ["*:<release>", "*:<commit>"]
  older_than: 6w
- drop: "*:<none>"
  untagged_for: 5d
`

// RetentionPage shows the retention rules of one place, and beside them what they let go, as
// one types.
export function RetentionPage() {
  const [asked, ask] = useSearchParams()
  const at: At = { ...(asked.get('place') && { place: asked.get('place')! }), ...(asked.get('list') && { list: asked.get('list')! }) }
  const rules = useRules(at, 'retention')
  const me = useMe()
  const fresh = at.list !== undefined && me.data?.admin && rules.error instanceof Refusal && rules.error.status === 404
  return (
    <Page title={titleOf(at)} beside={<Typography color="textSecondary">what is worth keeping, and what goes when</Typography>} do={<Places kind="retention" at={at} onGo={(to) => ask(to as Record<string, string>)} />}>
      <RuleTabs />
      {rules.isPending && <Waiting />}
      {fresh && <RetentionOf key={JSON.stringify(at)} at={at} list={{ kind: 'retention', list: at.list!, words: '', rules: [], used_by: [] }} />}
      {rules.error && !fresh && <Trouble asked="Reading the rules" error={rules.error} again={() => void rules.refetch()} />}
      {rules.data && !rules.isPlaceholderData && <RetentionOf key={JSON.stringify(at)} at={at} list={rules.data} />}
    </Page>
  )
}

// useSettled is a value once it has not changed for a while.
function useSettled<T>(value: T, after: number): T {
  const [settled, settle] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => settle(value), after)
    return () => clearTimeout(timer)
  }, [value, after])
  return settled
}

function RetentionOf({ at, list }: { at: At; list: RuleList }) {
  const me = useMe()
  const manages = me.data?.admin || (at.place !== undefined && (me.data?.roles.some((r) => r.role === 'owner' && (r.place === '' || r.place === at.place || at.place!.startsWith(`${r.place}/`))) ?? false))
  const [words, setWords] = useState(list.words || example)
  const dirty = words !== (list.words || example)
  const settled = useSettled(words, 600)
  const draft = manages && (dirty || list.rules.length === 0) ? settled : undefined
  const set = useRetention(at, draft === undefined && at.list === undefined)
  const tried = useTryRetention(at, draft)
  const shown = draft === undefined ? set : tried
  return (
    <>
      <State at={at} list={list} manages={manages ?? false} />
      <Box sx={{ display: 'grid', gridTemplateColumns: manages ? 'minmax(0, 5fr) minmax(0, 7fr)' : '1fr', gap: 2, alignItems: 'start' }}>
        {manages ? <Editor at={at} list={list} words={words} onWords={setWords} dirty={dirty} /> : <Words list={list} />}
        <Section title={dirty ? 'What they would let go' : list.rules.length === 0 ? 'What the example would let go' : 'What they let go'} beside={shown.isFetching && <Typography color="textSecondary">looking …</Typography>}>
          {at.list !== undefined && draft === undefined && <Typography color="textSecondary">The list acts wherever it is used; change it to see what it would do there.</Typography>}
          {shown.isLoading && <Waiting />}
          {shown.error && (
            <Typography role="alert" color="error" sx={{ overflowWrap: 'anywhere' }}>{shown.error.message}</Typography>
          )}
          {shown.data && !shown.error && <Preview preview={shown.data} draft={draft !== undefined} />}
        </Section>
      </Box>
      <Explain at={at} />
    </>
  )
}

// State says what is to be known of the list beside its words: whether it waits, and when it
// acts next.
function State({ at, list, manages }: { at: At; list: RuleList; manages: boolean }) {
  const me = useMe()
  const act = useActRules(at)
  const run = useRunRetention()
  const [reason, setReason] = useState('')
  const waits = list.waits || (list.waiting?.length ?? 0) > 0
  return (
    <Box sx={{ display: 'flex', gap: 3, alignItems: 'center', flexWrap: 'wrap', mb: 1.5 }}>
      {list.waits && list.acts_at && <Typography color="warning.main">It waits: what it could take that it could not before goes in about <Left until={list.acts_at} /> at the earliest.</Typography>}
      {list.waiting?.slice(0, 3).map((w) => (
        <Typography key={w.repository} color="warning.main">It waits in {w.repository} for about <Left until={w.until} />: it would take {w.takes} of {w.out_of} things there.</Typography>
      ))}
      {list.changed_at && list.rules.length > 0 && list.reaches === undefined && at.list === undefined && <Typography color="warning.main">Its rules speak of no repository that is there now.</Typography>}
      {list.unknown_in_use?.map((name) => (
        <Typography key={name} color="warning.main">There is no list {name} of what is in use: all of its pattern stays until there is. <Link component={Route} to="/in-use" underline="always">Make it</Link></Typography>
      ))}
      <Typography color="textSecondary">
        {list.next_run ? <>Retention rules act next in about <Left until={list.next_run} />.</> : 'Retention rules act only when somebody says so.'}
        {list.changed_at && <> Set <When at={list.changed_at} /> by {list.changed_by}: {list.reason}.</>}
        {list.list && list.used_by.length > 0 && ` Used by ${list.used_by.join(', ')}.`}
      </Typography>
      {waits && manages && (
        <Ask
          name="Let it act at once" question={`Let the retention ${titleOf(at).toLowerCase()} act at once?`} action="Let it act" busy={act.isPending} error={act.error} ready={reason.trim() !== ''}
          consequence={<Field label="Why" value={reason} onChange={setReason} hint="It stands in the audit log. What goes can come back until its restore window is over." />}
          onDo={(close) => act.mutate(reason, { onSuccess: close })}
        />
      )}
      {(at.place ? manages : me.data?.admin) && at.list === undefined && (
        <Ask
          name="Act now" question="Let the rules act now?" action="Act now" busy={run.isPending} error={run.error}
          consequence="What they let go is removed now instead of at night. It can come back until its restore window is over."
          onDo={(close) => run.mutate(at.place ?? '', { onSuccess: close })}
        />
      )}
      {run.data && <Typography role="status">Run {run.data.run.id} is asked for. What goes is listed <Link component={Route} to={`/removed${at.place ? `?in=${at.place}` : ''}`} underline="always">here</Link>.</Typography>}
    </Box>
  )
}

function Words({ list }: { list: RuleList }) {
  return (
    <Section title={list.rules.length === 0 ? 'No rules yet' : 'The rules, in the order in which they are asked'}>
      {list.rules.length === 0 ? <Typography color="textSecondary">Rules of wider places act here all the same.</Typography> : <Box component="pre" sx={{ m: 0, fontFamily: mono, fontSize: '0.8125rem', whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}>{list.words}</Box>}
    </Section>
  )
}

function Editor({ at, list, words, onWords, dirty }: { at: At; list: RuleList; words: string; onWords: (words: string) => void; dirty: boolean }) {
  const [reason, setReason] = useState('')
  const set = useSetRules(at, 'retention')
  const remove = useRemoveRules(at, 'retention')
  return (
    <Section title={list.rules.length === 0 ? 'No rules yet; an example to begin with' : 'The rules, in the order in which they are asked'}>
      <Box component="form" sx={{ display: 'grid', gap: 1.5 }} onSubmit={(e) => {
        e.preventDefault()
        set.mutate({ words, reason })
      }}>
        <TextField
          label="The whole list, as YAML" value={words} onChange={(e) => onWords(e.target.value)} multiline minRows={12} maxRows={28} fullWidth
          slotProps={{ htmlInput: { spellCheck: false, style: { fontFamily: mono, fontSize: '0.8125rem' } } }}
        />
        <Field label="Why" value={reason} onChange={setReason} hint="It stands in the audit log." />
        <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap' }}>
          <Button type="submit" variant="contained" disableElevation disabled={set.isPending || reason.trim() === '' || (!dirty && list.rules.length > 0)}>Set them</Button>
          {list.rules.length > 0 && (
            <Ask
              name="Remove them" question={`Remove the retention ${titleOf(at).toLowerCase()}?`} action="Remove them" busy={remove.isPending} error={remove.error} ready={reason.trim() !== ''}
              consequence={reason.trim() === '' ? 'Write why into the field first: it stands in the audit log.' : 'What they let go stays from then on; what they keep goes where a wider list lets it, a day later at the earliest.'}
              onDo={(close) => remove.mutate(reason, { onSuccess: close })}
            />
          )}
          {set.isSuccess && !dirty && <Typography role="status">Set.</Typography>}
        </Box>
        <Said error={set.error} />
      </Box>
    </Section>
  )
}

// Explain tells which rule decides of a tag, as the rules are set.
function Explain({ at }: { at: At }) {
  const [name, setName] = useState('')
  const explain = useExplainRetention()
  const cut = name.includes('@') ? name.lastIndexOf('@') : name.lastIndexOf(':')
  const [repository, target] = [name.slice(0, cut), name.slice(cut + 1)]
  const e = explain.data
  return (
    <Section title="Why does it stay, or go?">
      <Box component="form" sx={{ display: 'flex', gap: 1.5, alignItems: 'start', maxWidth: 640 }} onSubmit={(event) => {
        event.preventDefault()
        explain.mutate({ repository, target })
      }}>
        <Field label="A tag, or an image by its digest" value={name} onChange={setName} hint={`as in ${at.place?.includes('/') ? at.place : `${at.place ?? 'timetable'}/planner`}:1.2.3; the rules as they are set are asked`} />
        <Button type="submit" variant="outlined" disabled={cut < 1 || target === '' || explain.isPending} sx={{ mt: 0.25 }}>Why</Button>
      </Box>
      <Said error={explain.error} />
      {e && (
        <Box role="status" aria-label="What decides" sx={{ mt: 1 }}>
          <Typography sx={{ overflowWrap: 'anywhere' }}>{!e.there && 'There is no such tag; this is told of one that came just now: '}{e.says}.</Typography>
          <Box component="ol" sx={{ m: 0, mt: 1, pl: 0, listStyle: 'none', fontSize: '0.8125rem' }}>
            {e.answers.map((a, i) => (
              <Box key={i} component="li" sx={{ py: 0.25, color: a.decides ? 'text.primary' : 'text.secondary', fontWeight: a.decides ? 600 : 400, overflowWrap: 'anywhere' }}>
                <Box component="span" sx={{ fontFamily: mono }}>{a.words}</Box> · {a.of} · {a.decides ? 'decides' : a.why_not}
              </Box>
            ))}
          </Box>
        </Box>
      )}
    </Section>
  )
}
