<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { computed, reactive, ref } from 'vue'

import type { Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useSession } from '../../shared/actions/useSession'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import Picker from '../../shared/fields/Picker.vue'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { number, plural } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import { vFirst } from '../../shared/fields/first'

type Order = Schemas['OrderDetail']
const session = useSession()
const orders = useDocuments<Schemas['Order'], Order>('/api/v1/orders')
const { busy, failure, forget } = orders
const { data, error, isFetching } = orders.useList()
const columns = [
  { key: 'product', title: 'Product' },
  { key: 'quantity', title: 'Ordered', number: true },
  { key: 'delivered', title: 'Delivered', number: true },
  { key: 'arrived', title: 'Arrived', number: true },
  { key: 'awaited', title: 'On the way', number: true },
  { key: 'short', title: 'Never sent', number: true },
  { key: 'over', title: 'Over', number: true },
  { key: 'price', title: 'Price', number: true },
]
const nothing = () => ({ product: '', quantity: '', price: '' })
const open = ref(false)
const changing = ref<Order | null>(null)
const form = reactive({ name: '', supplier: '', ordered_on: '', note: '', lines: [nothing()] })
const title = computed(() =>
  changing.value ? `Change order ${changing.value.name}` : 'Add an order',
)

function edit(order: Order | null) {
  changing.value = order
  const lines = (order?.lines ?? []).map((line) => ({
    product: line.product,
    quantity: String(line.quantity),
    price: line.price ?? '',
  }))
  Object.assign(form, {
    name: order?.name ?? '',
    supplier: order?.supplier ?? '',
    ordered_on: order?.ordered_on ?? '',
    note: order?.note ?? '',
    lines: [...lines, nothing()],
  })
  forget()
  open.value = true
}

const devicesOf = (order: Order, more = '') =>
  `/devices?filter=${encodeURIComponent(`order eq ${JSON.stringify(order.name)}${more}`)}`
const ofProduct = (product: string) =>
  ` and (model eq ${JSON.stringify(product)} or productCode eq ${JSON.stringify(product)})`

/** There is always an empty line to write in. */
function grow(place: number) {
  if (place === form.lines.length - 1 && form.lines[place]?.product) form.lines.push(nothing())
}

function save() {
  const order = {
    name: form.name,
    supplier: form.supplier || null,
    ordered_on: form.ordered_on || null,
    note: form.note || null,
    lines: form.lines
      .filter((line) => line.product.trim())
      .map((line) => ({
        product: line.product,
        quantity: Number(line.quantity),
        price: line.price || null,
      })),
  }
  const done = () => (open.value = false)
  void (changing.value ? orders.edit(changing.value, order, done) : orders.add(order, done))
}
</script>

<template>
  <div class="page-head">
    <h1>Orders</h1>
    <span v-if="data?.[0]?.age_seconds" class="muted"
      >what came was counted {{ plural(data[0].age_seconds, 'second') }} ago</span
    >
    <v-btn variant="text" to="/lots">Lots</v-btn>
    <v-btn v-if="session.may('import')" color="primary" :prepend-icon="mdiPlus" @click="edit(null)"
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
          >, {{ number(order.short) }} never sent</span
        ><span v-if="order.over" class="tone-warn">, {{ number(order.over) }} over</span></span
      >
      <v-btn size="small" variant="text" :to="`/lots?query=${encodeURIComponent(order.name)}`"
        >Its lots</v-btn
      >
      <v-btn size="small" variant="text" :to="devicesOf(order)">Its devices</v-btn>
      <v-btn
        v-if="session.may('import')"
        size="small"
        variant="text"
        color="primary"
        @click="edit(order)"
        >Change</v-btn
      >
    </div>
    <DataList
      :label="`Lines of order ${order.name}`"
      :columns="columns"
      :items="order.tally"
      :row-key="(line) => line.product"
      empty="No lines yet."
    >
      <template #product="{ item }"
        >{{ item.product }} <span v-if="!item.quantity" class="muted">(not ordered)</span></template
      >
      <template #quantity="{ item }">{{ number(item.quantity) }}</template>
      <template #delivered="{ item }"
        ><router-link v-if="item.delivered" :to="devicesOf(order, ofProduct(item.product))">{{
          number(item.delivered)
        }}</router-link
        ><template v-else>0</template></template
      >
      <template #arrived="{ item }">{{ number(item.arrived) }}</template>
      <template #awaited="{ item }"
        ><router-link
          v-if="item.delivered > item.arrived"
          :to="devicesOf(order, ` and stage eq &quot;awaited&quot;${ofProduct(item.product)}`)"
          >{{ number(item.delivered - item.arrived) }}</router-link
        ><span v-else class="muted">0</span></template
      >
      <template v-for="key in ['short', 'over'] as const" :key="key" #[key]="{ item }"
        ><span :class="item[key] ? 'tone-warn' : 'muted'">{{ number(item[key]) }}</span></template
      >
      <template #price="{ item }">{{ item.price ?? '–' }}</template>
    </DataList>
  </section>
  <EditDialog
    v-model="open"
    :title="title"
    label="Preview"
    :failure="failure"
    :busy="busy"
    :ready="form.name !== ''"
    @save="save"
  >
    <v-text-field v-model="form.name" label="Name, as it stands in the lots" v-first />
    <Picker v-model="form.supplier" kind="supplier" label="Supplier" />
    <v-text-field v-model="form.ordered_on" label="Ordered on" type="date" />
    <v-text-field v-model="form.note" label="Note" />
    <div v-for="(line, place) in form.lines" :key="place" class="line">
      <Picker
        v-model="line.product"
        kind="model"
        label="Product: model or product code"
        @update:model-value="grow(place)"
      />
      <v-text-field v-model="line.quantity" label="Quantity" type="number" min="1" />
      <v-text-field v-model="line.price" label="Price of one" inputmode="decimal" />
    </div>
  </EditDialog>
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
