package browser

import "github.com/chromedp/cdproto/runtime"

// Awaited has a script's promise awaited.
func Awaited(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }
