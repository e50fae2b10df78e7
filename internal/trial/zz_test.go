package trial
import ("testing";"context";"time";"havvel/internal/export")
func TestZZ(t *testing.T){
 b,err:=export.Read(context.Background(),"/tmp/d/t/tinderwick-demo/export/web"); if err!=nil{t.Fatal(err)}
 br,_:=FindBrowser()
 tr:=&Trial{Build:b,Browser:br,Start:20*time.Second,Watch:3*time.Second,Only:[]string{"frame"}}
 v,_:=tr.views()
 t0:=time.Now()
 s,err:=tr.run(context.Background(),v[0])
 if err!=nil{t.Fatalf("%v",err)}
 t.Logf("%+v began after %v, start %d frames %f", s.Problems, s.began.Sub(t0), s.StartMS, s.Frames)
 for _,e:=range s.Heard { t.Logf("%s %s %f",e.Kind,e.Name,e.At) }
 for _,e:=range s.Requests { t.Logf("%s %f %f",e.Path,e.StartMS,e.EndMS) }
 for _,e:=range s.Pictures { t.Logf("%s %d",e.Name,e.MS) }
 t.Logf("end %v",time.Since(t0))
}
