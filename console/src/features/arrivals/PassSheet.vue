<script setup lang="ts">
import type { Schemas } from '../../api/client'

/** A pass on paper: only the printer sees it. */
const { label, made, picture, wifi, wifiPicture, days, card } = defineProps<{
  label: string
  made: Schemas['PassCode']
  picture: string
  wifi: string
  wifiPicture: string
  days: number
  card: Schemas['WelcomeDetail'] | null
}>()
</script>

<template>
  <article class="sheet">
    <header>
      <p>{{ card?.organisation }}</p>
      <h1>{{ label }}</h1>
    </header>
    <div class="codes">
      <figure v-if="wifiPicture">
        <img :src="wifiPicture" alt="QR of the wireless network" />
        <figcaption><strong>1.</strong> Join the network “{{ wifi }}”</figcaption>
      </figure>
      <figure>
        <img :src="picture" alt="QR of the address" />
        <figcaption>
          <strong>{{ wifiPicture ? '2.' : '1.' }}</strong> Scan this with the device
        </figcaption>
      </figure>
    </div>
    <p class="or">or open {{ made.url.split('#')[0] }} and type this code when it asks for it:</p>
    <p class="code">{{ made.code }}</p>
    <ol>
      <li>Charge the device, and keep it near you until it says that it is ready.</li>
      <li>Answer what it asks. The code holds for {{ days }} days.</li>
      <li>Do not pass the code on.</li>
    </ol>
    <footer v-if="card?.help_name || card?.help_phone || card?.help_mail">
      <strong>Help:</strong>
      {{
        [card.help_name, card.help_phone, card.help_mail, card.help_hours]
          .filter(Boolean)
          .join(' · ')
      }}
    </footer>
  </article>
</template>

<style>
.sheet {
  display: none;
}
@media print {
  @page {
    size: A4;
    margin: 18mm;
  }
  body > *:not(.sheet) {
    display: none !important;
  }
  .sheet {
    display: block;
    color: #000;
    background: #fff;
    font-size: 13pt;
  }
  .sheet h1 {
    font-size: 24pt;
    margin: 0 0 8mm;
  }
  .sheet .codes {
    display: flex;
    gap: 14mm;
  }
  .sheet figure {
    margin: 0;
  }
  .sheet img {
    width: 62mm;
    height: 62mm;
  }
  .sheet .or {
    margin: 8mm 0 2mm;
  }
  .sheet .code {
    font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
    font-size: 34pt;
    font-weight: 700;
    letter-spacing: 0.06em;
    margin: 0 0 8mm;
  }
  .sheet ol {
    padding-left: 7mm;
    line-height: 1.6;
  }
  .sheet footer {
    margin-top: 12mm;
    border-top: 1px solid #999;
    padding-top: 4mm;
  }
}
</style>
