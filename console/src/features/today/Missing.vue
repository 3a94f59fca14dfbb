<template>
  <div class="stack">
    <h1>There is no such page</h1>
    <p><router-link to="/today">Go to Today</router-link>, or search for a device above.</p>
  </div>
</template>
