import { Box, Button, Dialog, DialogActions, DialogContent, DialogTitle, MenuItem, Paper, TextField, Typography } from '@mui/material'
import { type FormEvent, type ReactNode, useState } from 'react'

// Field is one line of a form.
export function Field({ label, value, onChange, hint, type, options, autoFocus, width, multiline }: {
  label: string
  value: string
  onChange: (value: string) => void
  hint?: ReactNode
  type?: 'password' | 'number' | 'date'
  // options make it a choice.
  options?: { value: string; name: string }[]
  autoFocus?: boolean
  width?: number
  multiline?: boolean
}) {
  return (
    <TextField
      label={label} value={value} onChange={(e) => onChange(e.target.value)} helperText={hint} type={type ?? 'text'} size="small"
      select={options !== undefined} autoFocus={autoFocus} fullWidth={width === undefined} multiline={multiline} minRows={multiline ? 2 : undefined}
      sx={{ width }} slotProps={{ htmlInput: { spellCheck: false, autoCapitalize: 'off' }, inputLabel: type === 'date' ? { shrink: true } : {} }}
    >
      {options?.map((o) => (
        <MenuItem key={o.value} value={o.value}>
          {o.name}
        </MenuItem>
      ))}
    </TextField>
  )
}

// Said is what the registry said against what was asked.
export function Said({ error }: { error: Error | null }) {
  if (!error) return null
  return (
    <Typography role="alert" color="error" sx={{ overflowWrap: 'anywhere' }}>
      {error.message}
    </Typography>
  )
}

// FormDialog asks for what is needed, and stays until it worked.
export function FormDialog({ title, action, open, onClose, onDo, busy, error, children, ready = true }: {
  title: string
  action: string
  open: boolean
  onClose: () => void
  onDo: () => void
  busy: boolean
  error: Error | null
  children: ReactNode
  ready?: boolean
}) {
  const submit = (e: FormEvent) => {
    e.preventDefault()
    if (ready && !busy) onDo()
  }
  return (
    <Dialog open={open} onClose={onClose} fullWidth maxWidth="sm" aria-labelledby="dialog-title">
      <Box component="form" onSubmit={submit}>
        <DialogTitle id="dialog-title" sx={{ fontSize: '1.125rem', pb: 1 }}>
          {title}
        </DialogTitle>
        <DialogContent sx={{ display: 'grid', gap: 2, pt: '8px !important' }}>
          {children}
          <Said error={error} />
        </DialogContent>
        <DialogActions sx={{ px: 3, pb: 2 }}>
          <Button onClick={onClose} color="inherit">
            Cancel
          </Button>
          <Button type="submit" variant="contained" disableElevation disabled={!ready || busy}>
            {action}
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  )
}

interface FormButton {
  name: string
  // label says to readers of the screen on what it acts, where the name does not.
  label?: string
  // quiet is for buttons that stand in rows.
  quiet?: boolean
  title: string
  action: string
  // onDo is told how to close the dialog, once it worked.
  onDo: (close: () => void) => void
  onOpen?: () => void
  busy: boolean
  error: Error | null
  ready?: boolean
  children: ReactNode
}

// DialogButton is a button that opens a form, which stays until it worked.
export function DialogButton({ name, label, quiet, onDo, onOpen, ...form }: FormButton) {
  const [open, setOpen] = useState(false)
  const close = () => setOpen(false)
  const show = () => {
    setOpen(true)
    onOpen?.()
  }
  const look = quiet ? { color: 'inherit' as const, sx: { minWidth: 0, ml: -0.75, mr: 0.75 } } : { variant: 'outlined' as const }
  return (
    <>
      <Button size="small" aria-label={label} onClick={show} {...look}>
        {name}
      </Button>
      <FormDialog open={open} onClose={close} onDo={() => onDo(close)} {...form} />
    </>
  )
}

// Ask is a button that asks before it does something.
export function Ask({ question, consequence, ...button }: Omit<FormButton, 'title' | 'children' | 'quiet'> & { question: string; consequence: ReactNode }) {
  return (
    <DialogButton quiet title={question} {...button}>
      <Typography>{consequence}</Typography>
    </DialogButton>
  )
}

// Section is one part of a page, with what can be done beside its title.
export function Section({ title, beside, children }: { title: string; beside?: ReactNode; children: ReactNode }) {
  return (
    <Paper component="section" aria-label={title} sx={{ px: 2, pt: 1.25, pb: 1.5, mb: 2 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1, minHeight: 36 }}>
        <Typography variant="h3" component="h2" sx={{ flex: 1 }}>
          {title}
        </Typography>
        {beside}
      </Box>
      {children}
    </Paper>
  )
}

// SaveForm is a form of two columns that is saved as a whole.
export function SaveForm({ onSave, saving, saved, error, children }: { onSave: () => void; saving: boolean; saved: boolean; error: Error | null; children: ReactNode }) {
  return (
    <Box
      component="form" sx={{ display: 'grid', gap: 2, gridTemplateColumns: '1fr 1fr', alignItems: 'start', pt: 1 }}
      onSubmit={(e) => {
        e.preventDefault()
        onSave()
      }}
    >
      {children}
      <Box sx={{ gridColumn: '1 / 3', display: 'flex', gap: 2, alignItems: 'center' }}>
        <Button type="submit" variant="contained" disableElevation disabled={saving}>
          Save
        </Button>
        {saved && <Typography role="status">Saved.</Typography>}
        <Said error={error} />
      </Box>
    </Box>
  )
}

// Restore offers the way back to what was removed.
export function Restore({ onDo, busy, error }: { onDo: () => void; busy: boolean; error: Error | null }) {
  return (
    <Box sx={{ mt: 2, display: 'flex', gap: 2, alignItems: 'center' }}>
      <Button size="small" variant="outlined" onClick={onDo} disabled={busy}>
        Restore it, if it was removed
      </Button>
      <Said error={error} />
    </Box>
  )
}
