import type { ReactNode } from 'react'
import type { Me } from '../api/session'

// Area is what a folder of the console brings along: its pages, and where the rail
// leads to it.
export interface Area {
  pages: { path: string; element: ReactNode }[]
  rail?: {
    // order sorts the rail, the smallest first.
    order: number
    to: string
    name: string
    here: (at: string) => boolean
    // shown says whether it is for whoever is signed in; without it, for everybody.
    shown?: (me: Me) => boolean
  }
}
