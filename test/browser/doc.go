// Package browser starts headless Chromium the way that the tests and the screenshots
// need it.
package browser
