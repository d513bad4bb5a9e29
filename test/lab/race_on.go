//go:build linux && race

package lab

const raceOn = true
