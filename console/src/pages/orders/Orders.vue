<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { reactive, ref } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import DataList from '../../shared/DataList.vue'
import { number } from '../../shared/formats'
import ProblemAlert from '../../shared/ProblemAlert.vue'
import { useSession } from '../../shared/useSession'

type Order = Schemas['Order']
const session = useSession()
const queries = useQueryClient()
const { data, error, isFetching } = useQuery({
  queryKey: ['orders'],
  queryFn: () => got(api.GET('/api/v1/orders')),
})
const columns = [
  { key: 'product', title: 'Product' },
  { key: 'quantity', title: 'Ordered', number: true },
  { key: 'delivered', title: 'Delivered', number: true },
  { key: 'arrived', title: 'Arrived', number: true },
  { key: 'short', title: 'Short', number: true },
  { key: 'over', title: 'Over', number: true },
  { key: 'price', title: 'Price', number: true },
]
const open = ref(false)
const failure = ref<unknown>(null)
const form = reactive({
  order: null as Order | null,
  name: '',
  supplier: '',
  ordered_on: '',
  note: '',
  lines: [] as { product: string; quantity: string; price: string }[],
})

function edit(order: Order | null) {
  failure.value = null
  const lines =
    order?.lines
      .filter((line) => line.quantity)
      .map((line) => ({
        product: line.product,
        quantity: String(line.quantity),
        price: line.price ?? '',
      })) ?? []
  Object.assign(form, {
    order,
    name: order?.name ?? '',
    supplier: order?.supplier ?? '',
    ordered_on: order?.ordered_on ?? '',
    note: order?.note ?? '',
    lines: [...lines, { product: '', quantity: '', price: '' }],
  })
  open.value = true
}

async function save() {
  failure.value = null
  const lines = form.lines
    .filter((line) => line.product.trim())
    .map((line) => ({
      product: line.product,
      quantity: Number(line.quantity),
      price: line.price || null,
    }))
  const body = {
    name: form.name,
    supplier: form.supplier || null,
    ordered_on: form.ordered_on || null,
    note: form.note || null,
    lines,
  }
  try {
    if (form.order)
      await got(
        api.PUT('/api/v1/orders/{order_id}', {
          params: {
            path: { order_id: form.order.id },
            header: { 'if-match': `"${form.order.revision}"` },
          },
          body,
        }),
      )
    else await got(api.POST('/api/v1/orders', { body }))
    open.value = false
    await queries.invalidateQueries()
  } catch (problem) {
    failure.value = problem
  }
}
</script>

<template>
  <div class="page-head">
    <h1>Orders</h1>
    <v-btn variant="text" to="/lots">Lots</v-btn>
    <v-btn v-if="session.changes" color="primary" :prepend-icon="mdiPlus" @click="edit(null)"
      >Add an order</v-btn
    >
  </div>
  <ProblemAlert :error="error" />
  <v-progress-linear v-if="isFetching" indeterminate color="primary" aria-label="Loading" />
  <v-card v-if="data && !data.length" class="pa-6 text-center muted"
    >No orders yet. Add what was ordered; lots with that order's name count against it.</v-card
  >
  <section v-for="order in data ?? []" :key="order.id" class="mb-5">
    <div class="page-head">
      <h2>{{ order.name }}</h2>
      <span class="muted grow">{{
        [order.supplier, order.ordered_on && `ordered on ${order.ordered_on}`, order.note]
          .filter(Boolean)
          .join(', ')
      }}</span>
      <span
        ><strong>{{ number(order.delivered) }}</strong> of {{ number(order.ordered) }} delivered,
        {{ number(order.arrived) }} arrived<span v-if="order.short" class="tone-warn"
          >, {{ number(order.short) }} short</span
        ><span v-if="order.over" class="tone-warn">, {{ number(order.over) }} over</span></span
      >
      <v-btn v-if="session.changes" size="small" variant="text" color="primary" @click="edit(order)"
        >Change</v-btn
      >
    </div>
    <DataList
      :label="`Lines of order ${order.name}`"
      :columns="columns"
      :items="order.lines"
      :row-key="(line) => line.product"
      empty="No lines yet."
    >
      <template #product="{ item }"
        >{{ item.product }} <span v-if="!item.quantity" class="muted">(not ordered)</span></template
      >
      <template
        v-for="key in ['quantity', 'delivered', 'arrived'] as const"
        :key="key"
        #[key]="{ item }"
        >{{ number(item[key]) }}</template
      >
      <template v-for="key in ['short', 'over'] as const" :key="key" #[key]="{ item }"
        ><span :class="item[key] ? 'tone-warn' : 'muted'">{{ number(item[key]) }}</span></template
      >
      <template #price="{ item }">{{ item.price ?? '–' }}</template>
    </DataList>
  </section>
  <v-dialog v-model="open" max-width="640" aria-label="An order">
    <v-card>
      <v-card-title class="pt-4">{{
        form.order ? `Change order ${form.order.name}` : 'Add an order'
      }}</v-card-title>
      <v-card-text class="stack">
        <ProblemAlert :error="failure" />
        <v-text-field v-model="form.name" label="Name, as it stands in the lots" autofocus />
        <v-text-field v-model="form.supplier" label="Supplier" />
        <v-text-field v-model="form.ordered_on" label="Ordered on" type="date" />
        <v-text-field v-model="form.note" label="Note" />
        <div v-for="(line, place) in form.lines" :key="place" class="line">
          <v-text-field
            v-model="line.product"
            label="Product: model or product code"
            @update:model-value="
              place === form.lines.length - 1 &&
              line.product &&
              form.lines.push({ product: '', quantity: '', price: '' })
            "
          />
          <v-text-field v-model="line.quantity" label="Quantity" type="number" min="1" />
          <v-text-field v-model="line.price" label="Price of one" inputmode="decimal" />
        </div>
      </v-card-text>
      <v-card-actions>
        <v-spacer />
        <v-btn variant="text" @click="open = false">Leave it</v-btn>
        <v-btn color="primary" variant="flat" :disabled="!form.name" @click="save"
          >Save the order</v-btn
        >
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
h2 {
  flex: 0 0 auto;
}
.grow {
  flex: 1 1 auto;
}
.line {
  display: grid;
  grid-template-columns: 1fr 110px 130px;
  gap: 8px;
}
</style>
