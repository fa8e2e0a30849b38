//go:build !race

package sim_test

const underRace = false
