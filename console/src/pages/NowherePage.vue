<template>
  <div class="page">
    <h1>Page not found</h1>
    <p class="lead">No page exists at this address. <router-link to="/">Go to the sound check</router-link></p>
  </div>
</template>
