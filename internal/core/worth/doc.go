// Package worth decides what a full store keeps: what saves the most origin time for its bytes.
//
// The worth of an entry is its use, which decays, times what its fill costs, divided by its size.
// When room is wanted, the least worth of a few sampled entries goes. Who comes first stands in a
// small window, and is weighed against whoever would go for it. What left is remembered for a
// while, so that its use counts when it returns. How fast use decays, and how much more a newcomer
// must be worth, is what has lately saved the most in small copies of the policy that see a share
// of the keys.
//
// It knows neither clock nor chance: time is counted in uses, and the seed is handed in.
package worth
