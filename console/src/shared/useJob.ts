import { reactive } from 'vue'

import { api, got, ProblemError, type Schemas } from '../api/client'

type Job = Schemas['Job']
const LOOK_EVERY = 400

/** From so many rows on, a change is followed as a job instead of being waited for. */
export const LARGE = 20_000

/** Long work: what runs at the moment, and its end. */
export function useJob() {
  const state = reactive({ job: null as Job | null })

  async function follow(first: Job): Promise<Job> {
    let job = first
    try {
      for (;;) {
        state.job = job
        if (job.state === 'done') return job
        if (job.state === 'failed' || job.state === 'cancelled')
          throw new ProblemError(problemOf(job))
        await new Promise((resolve) => setTimeout(resolve, LOOK_EVERY))
        job = await got(api.GET('/api/v1/jobs/{job_id}', { params: { path: { job_id: job.id } } }))
      }
    } finally {
      state.job = null
    }
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
