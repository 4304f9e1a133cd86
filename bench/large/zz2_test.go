package large
import ("testing";"math/rand/v2";"kibitz/core/proof";"kibitz/core/proof/trial";"os")
func TestYY(t *testing.T){
 total:=map[trial.Caught]int{}
 for _,n:=range Names { if o:=os.Getenv("ONLY"); o!="" && o!=n {continue}
  b,_:=Open(n); e,err:=b.Load(b.Text); if err!=nil {t.Fatal(err)}
  known:=proof.Check(e,1); reqs:=proof.Requests(e)
  for _,f:=range trial.Faults() { seen:=map[string]bool{}
   r:=rand.New(rand.NewPCG(1,7))
   for range 5 { m,ok:=trial.Mutate(r,b.Text,f); if !ok||seen[m.Text]{continue}; seen[m.Text]=true
    after,err:=b.Load(m.Text); if err!=nil{ continue}
    c:=trial.Try(e,known,after,reqs); total[c]++
    if c==trial.Missed { t.Logf("missed %s %s: %s",n,f,diff(b.Text,m.Text)) } else if c==trial.Noted { t.Logf("noted %s %s: %s",n,f,diff(b.Text,m.Text)) }
   } } }
 t.Log(total)
}
func diff(a,b string) string { x,y:=split(a),split(b); for i:=range y { if i>=len(x)||x[i]!=y[i] {return y[i]} }; return "" }
func split(s string) (out []string) { l:=""; for _,c:=range s { if c=='\n'{out=append(out,l);l=""} else {l+=string(c)} }; return append(out,l) }
