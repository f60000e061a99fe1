// Package web holds the built console. "npm run build" in this folder fills
// dist; without it the service still runs and says what to do.
package web

import "embed"

// Dist is the built console.
//
//go:embed all:dist
var Dist embed.FS
