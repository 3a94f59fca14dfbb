import { queryOptions } from '@tanstack/vue-query'

import { api, got } from '../../api/client'

/** What a device's page reads first. */
export const deviceQuery = (device_id: number) =>
  queryOptions({
    queryKey: ['device', { device_id }],
    queryFn: () => got(api.GET('/api/v1/devices/{device_id}', { params: { path: { device_id } } })),
  })
