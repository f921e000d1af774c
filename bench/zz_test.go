package main
import ("testing";"time";"fmt";"os";"runtime/pprof";"strings")
func TestZ(t *testing.T){ d:="/tmp/nb"; var f figure; s:=time.Now()
 if _,err:=os.Stat(d+"/files"); err!=nil { var err error; f,err=fileFigure(d); if err!=nil {t.Fatal(err)} } else { f=filesOf(d+"/files") }
 fmt.Println("setup",time.Since(s)); w,_:=os.Create("/tmp/cpu.prof")
 for i:=range 4 { if i==1 {pprof.StartCPUProfile(w)}; s=time.Now(); if err:=f.ours(); err!=nil {t.Fatal(err)}; o:=time.Since(s); if i==1 {pprof.StopCPUProfile(); m,_:=os.ReadFile("/proc/self/status"); for _,l:=range strings.Split(string(m),"\n") { if strings.HasPrefix(l,"VmHWM") {fmt.Println(l)}}}; s=time.Now(); if err:=f.floor(); err!=nil {t.Fatal(err)}; fl:=time.Since(s); fmt.Println(o,fl,float64(o)/float64(fl)) } }
