package large
import ("testing";"time";"kibitz/core/proof")
func TestZZ(t *testing.T){
 for _,n:=range Names { b,err:=Open(n); if err!=nil{t.Fatal(err)}
  e,err:=b.Load(b.Text); if err!=nil { t.Errorf("%s %v",n,err); continue}
  s:=time.Now(); r:=proof.Check(e,1); t.Logf("== %s %d entries %v: %d findings", n,len(e.Book.Rules),time.Since(s),len(r.Findings))
  for _,f:=range r.Findings { t.Logf("%s %s %s:%d ×%d %s | %s | %s", f.Severity,f.Name,n,f.Place.Line,f.Count,f.Message,f.Request.Address,f.Advice)}
  for _,c:=range r.Claims { if c.State=="open" {t.Logf("open %s %d: %s",c.Finding,c.Entries,c.Why)}}
 }
}
