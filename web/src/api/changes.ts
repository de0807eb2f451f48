import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

export type Line = 'connecting' | 'live' | 'broken'

// useChanges keeps every list up to date: each change that the registry tells of
// makes the answers that it touches be asked for again. The line is open only
// while the page is in sight: browsers allow few connections to one host, and
// pages in the background must not use them up.
export function useChanges(): Line {
  const queries = useQueryClient()
  const [line, setLine] = useState<Line>('connecting')
  useEffect(() => {
    let stream: EventSource | undefined
    let late: ReturnType<typeof setTimeout> | undefined
    let missed = false
    // Many changes in a row, as one push brings, are one reason to ask again.
    const askAgain = () => {
      late ??= setTimeout(() => {
        late = undefined
        void queries.invalidateQueries()
      }, 150)
    }
    const close = () => {
      if (stream === undefined) return
      stream.close()
      stream = undefined
      missed = true
      setLine('connecting')
    }
    const open = () => {
      if (stream !== undefined || document.visibilityState === 'hidden') return
      stream = new EventSource('/api/v1/changes')
      stream.onopen = () => {
        setLine('live')
        if (missed) askAgain()
        missed = false
      }
      stream.onerror = () => {
        missed = true
        setLine('broken')
      }
      stream.addEventListener('change', askAgain)
    }
    const follow = () => (document.visibilityState === 'hidden' ? close() : open())
    open()
    document.addEventListener('visibilitychange', follow)
    window.addEventListener('pagehide', close)
    window.addEventListener('pageshow', open)
    return () => {
      document.removeEventListener('visibilitychange', follow)
      window.removeEventListener('pagehide', close)
      window.removeEventListener('pageshow', open)
      close()
      clearTimeout(late)
    }
  }, [queries])
  return line
}
