// Package decide is what is done with a request: one pure function of route, request,
// stored entry and time. Serving, explain, the console and the forecast all call it;
// there is no second implementation of any of its rules.
package decide
