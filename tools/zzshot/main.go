package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

// args: out.png URL [js] ...
func main() {
	pw, _ := os.ReadFile(".demo/console-password")
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.WindowSize(1280, 800), chromedp.Flag("force-color-profile", "srgb"))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	base := "http://127.0.0.1:8470"
	do := func(a ...chromedp.Action[chromedp.Void]) {
		c := ctx
		if err := chromedp.Do(c, a...); err != nil {
			fmt.Println(err)
		}
	}
	do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(base), chromedp.WaitVisible(chromedp.CSS("#operator")), chromedp.SendKeys(chromedp.CSS("#operator"), "harbour-lead"), chromedp.SendKeys(chromedp.CSS("#password"), strings.TrimSpace(string(pw))+"\r"), chromedp.WaitVisible(chromedp.CSS("nav")), chromedp.Sleep(1500*time.Millisecond))
	for i := 1; i+2 < len(os.Args); i += 3 {
		do(chromedp.Navigate(base+os.Args[i+1]), chromedp.Sleep(1500*time.Millisecond))
		for _, step := range strings.Split(os.Args[i+2], ";;") {
			step = strings.TrimSpace(step)
			switch {
			case step == "":
			case strings.HasPrefix(step, "click "):
				do(chromedp.Click(chromedp.Search(step[6:])), chromedp.Sleep(700*time.Millisecond))
			case strings.HasPrefix(step, "css "):
				do(chromedp.Click(chromedp.CSS(step[4:])), chromedp.Sleep(700*time.Millisecond))
			case strings.HasPrefix(step, "type "):
				sel, text, _ := strings.Cut(step[5:], "=>")
				do(chromedp.SendKeys(chromedp.CSS(sel), text), chromedp.Sleep(900*time.Millisecond))
			case strings.HasPrefix(step, "js "):
				_, err := chromedp.Run(ctx, chromedp.Evaluate[any](step[3:]))
				if err != nil {
					fmt.Println(err)
				}
				time.Sleep(500 * time.Millisecond)
			}
		}
		png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			fmt.Println(err)
			continue
		}
		_ = os.WriteFile(os.Args[i], png, 0o644)
	}
}
