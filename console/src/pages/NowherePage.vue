<template>
  <div class="page">
    <h1>Nothing here</h1>
    <p class="lead">There is no page at this address. <router-link to="/">Go to the sound check</router-link></p>
  </div>
</template>
