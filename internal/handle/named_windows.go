package handle

const withoutWaiting = 0 // nothing that has a path keeps its opener waiting
