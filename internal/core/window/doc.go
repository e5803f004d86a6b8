// Package window reduces the summaries of one series to the rows of a windowed
// query: which windows a range has, which tier answers it exactly, the stats of
// each window, and what stands where there is no data.
package window
