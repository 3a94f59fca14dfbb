import { QueryObserver } from '@tanstack/vue-query'
import { reactive } from 'vue'

import { api, got, ProblemError, type Schemas } from '../../api/client'
import { queries } from '../../api/queries'

type Job = Schemas['Job']
const LOOK_EVERY = 400
const OVER = ['done', 'failed', 'cancelled']

/** Long work: what runs at the moment, and its end. */
export function useJob() {
  const state = reactive({ job: null as Job | null })

  async function follow(first: Job): Promise<Job> {
    state.job = first
    try {
      const last = OVER.includes(first.state) ? first : await ended(first.id)
      if (last.state !== 'done') throw new ProblemError(problemOf(last))
      return last
    } finally {
      state.job = null
    }
  }

  /** The job at its end; until then the query library asks again and again. */
  function ended(id: number): Promise<Job> {
    const observer = new QueryObserver<Job>(queries, {
      queryKey: ['job', id],
      queryFn: () => got(api.GET('/api/v1/jobs/{job_id}', { params: { path: { job_id: id } } })),
      refetchInterval: LOOK_EVERY,
      refetchIntervalInBackground: true,
      gcTime: 0,
    })
    return new Promise((resolve, reject) => {
      const stop = observer.subscribe(({ data, error }) => {
        if (data) state.job = data
        if (error || (data && OVER.includes(data.state))) {
          stop()
          if (error) reject(error)
          else resolve(data as Job)
        }
      })
    })
  }

  return { state, follow }
}

function problemOf(job: Job): Schemas['Problem'] {
  const found = job.problem as { code: string; detail: string; remedy: string } | null
  return {
    type: 'about:blank',
    title: 'Stopped',
    status: 409,
    errors: [],
    ...(found ?? {
      code: 'cancelled',
      detail: `${job.title} was stopped; nothing of it was kept.`,
      remedy: 'Start it again when you want it.',
    }),
  }
}
