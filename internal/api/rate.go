package api

// MostRate, in failures per drive-year, stands for the upper end of a rate of which nothing is known.
const MostRate = 1e6
