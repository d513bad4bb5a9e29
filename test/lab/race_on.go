//go:build race

package lab

const raceOn = true
