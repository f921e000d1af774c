package acceptance
import ("testing";"os";"time";"fmt";"github.com/chromedp/chromedp";"github.com/stretchr/testify/require")
func TestShot(t *testing.T){
 b:=open(t)
 shot:=func(name string){ time.Sleep(800*time.Millisecond); data,err:=chromedp.Run(b, chromedp.CaptureScreenshot()); require.NoError(t,err); require.NoError(t,os.WriteFile("/tmp/"+name+".png",data,0o644)) }
 b.do(t, chromedp.Navigate("http://127.0.0.1:8410/holdings"), chromedp.WaitVisible("tbody tr")); shot("holdings")
 b.do(t, chromedp.Click(`//a[contains(., 'quay')]`), chromedp.WaitVisible(`[data-test="files"] tr`)); shot("holding")
 b.do(t, chromedp.Navigate("http://127.0.0.1:8410/workbench"), chromedp.WaitVisible(`[data-test="ready"]`)); shot("workbench-empty")
 h:="/var/lib/nurvik/demo/harbour/hosts/"
 b.do(t, chromedp.SetUploadFiles(`[data-test="choose"]`, []string{h+"quay/etc/ssl/bollard.key",h+"quay/etc/ssl/bollard.crt",h+"gatehouse/stores/barrier.p12",h+"mailroom/word-processor.crt",h+"quay/etc/ssl/quay.crt",h+"quay/etc/ssl/quay.key"}))
 b.eventually(t, `document.querySelectorAll('[data-test="entries"] tbody tr').length > 3`, "sorted")
 shot("workbench-locked")
 b.do(t, chromedp.SendKeys(`[data-test="password"]`,"Lodestar 7"), chromedp.Click(`[data-test="unlock"]`)); 
 time.Sleep(1500*time.Millisecond); shot("workbench")
 b.do(t, chromedp.Evaluate[chromedp.Void](`window.scrollTo(0, 700)`)); shot("workbench-down")
 fmt.Println(b.complaints, b.hosts)
}
