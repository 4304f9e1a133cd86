package rulebook

// Sites, lists and includes, which are no rules.

const (
	KindSite    Kind = "site"
	KindList    Kind = "list"
	KindInclude Kind = "include"
)

func init() {
	register(kindRow{kind: KindSite, order: 1, clauses: map[string]clauseForm{
		"address":       {must: 1, needed: true, needs: "the site's main address, like `address https://saltmarsh-ferries.example`"},
		"hosts":         {must: 1, more: true, needs: "a host name"},
		"files":         {must: 1, needs: "the site's folder"},
		"inventory":     {must: 1, needs: "a listing of the site's files"},
		"slashes":       {must: 1, needs: "`merge` or `keep`"},
		"unknown-hosts": {must: 1, needs: "the word `answer`"},
		"accept":        acceptForm,
	}})
	register(kindRow{kind: KindList, order: 2})
	register(kindRow{kind: KindInclude, order: 3})
}
