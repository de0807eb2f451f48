import { Box, Checkbox, FormControlLabel } from '@mui/material'
import { useState } from 'react'
import type { Peer } from '../api/flow'
import type { ReplicationRule } from '../api/replication'
import { Field } from '../parts/Forms'

const listed = (text: string) => text.split(/[\s,]+/).filter(Boolean)

const empty: ReplicationRule = { name: '', copy: [] }

// useRuleForm is what a rule says, while somebody writes it.
export function useRuleForm(peers: Peer[], was: ReplicationRule = empty) {
  const [name, setName] = useState(was.name ?? '')
  const [copy, setCopy] = useState(was.copy.join(', '))
  const [except, setExcept] = useState((was.except ?? []).join(', '))
  const [inward, setInward] = useState(was.from !== undefined)
  const [peer, setPeer] = useState(was.to ?? was.from ?? peers[0]?.name ?? '')
  const [as, setAs] = useState(was.as ?? '')
  const [when, setWhen] = useState(was.when ?? '')
  const [hours, setHours] = useState(was.hours ?? '')
  const [rate, setRate] = useState(was.rate ?? '')
  const [referrers, setReferrers] = useState(was.referrers ?? true)
  const [removals, setRemovals] = useState<NonNullable<ReplicationRule['removals']>>(was.removals ?? 'keep')
  const [conflicts, setConflicts] = useState<NonNullable<ReplicationRule['conflicts']>>(was.conflicts ?? 'report')
  const [because, setBecause] = useState(was.because ?? '')
  const rule: ReplicationRule = {
    name, copy: listed(copy), removals, conflicts, ...(inward ? { from: peer } : { to: peer }), ...(was.artifact_types && { artifact_types: was.artifact_types }),
    ...(except && { except: listed(except) }), ...(as && { as }), ...(when && { when }), ...(hours && { hours }), ...(rate && { rate }), ...(!referrers && { referrers: false }), ...(because && { because }),
  }
  const fields = (
    <>
      <Box sx={{ display: 'grid', gridTemplateColumns: '1fr 1fr', gap: 2 }}>
        {was === empty && <Field label="Name" value={name} onChange={setName} hint="small letters, digits and dashes" autoFocus />}
        <Field label="Because" value={because} onChange={setBecause} hint="why there is the rule" />
        <Field label="Direction" value={inward ? 'from' : 'to'} onChange={(v) => setInward(v === 'from')} options={[{ value: 'to', name: 'to the peer' }, { value: 'from', name: 'from the peer' }]} />
        <Field label="Peer" value={peer} onChange={setPeer} options={peers.map((p) => ({ value: p.name, name: p.name }))} />
        <Field label="Copies" value={copy} onChange={setCopy} hint="patterns, as in signals/*:<version>, by the names where it comes from" />
        <Field label="Except" value={except} onChange={setExcept} hint="patterns of what is not copied" />
        <Field label="As" value={as} onChange={setAs} hint="the same name where it is left out; {namespace}, {repository}, {tag}" />
        <Field label="When" value={when} onChange={setWhen} hint={inward ? 'by hand, 6h, or a cron expression' : 'pushed, by hand, 6h, or a cron expression'} />
        <Field label="Hours" value={hours} onChange={setHours} hint="in UTC, as in 22:00-05:00; all day where it is left out" />
        <Field label="Rate" value={rate} onChange={setRate} hint="bytes a second at most, as in 4MiB" />
        <Field label="What is removed" value={removals} onChange={(v) => setRemovals(v as typeof removals)} options={[{ value: 'keep', name: 'stays on the other side' }, { value: 'remove', name: 'goes there too, if the rule put it' }]} />
        <Field label="Conflicts" value={conflicts} onChange={(v) => setConflicts(v as typeof conflicts)} options={[{ value: 'report', name: 'are told' }, { value: 'ours', name: 'this registry wins' }, { value: 'theirs', name: 'the peer wins' }]} />
      </Box>
      <FormControlLabel label="Signatures and all else that refers to an image travel with it" control={<Checkbox size="small" checked={referrers} onChange={(e) => setReferrers(e.target.checked)} />} />
    </>
  )
  return { rule, fields, ready: name !== '' && rule.copy.length > 0 && peer !== '' }
}
