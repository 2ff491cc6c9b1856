<template><div>Watch</div></template>
