package key

import (
	"github.com/vektah/gqlparser/v2/ast"
	"github.com/vektah/gqlparser/v2/parser"

	"gerastic/internal/core/httprules"
)

// Question is what a request asks, as far as routes tell requests apart by it.
type Question struct {
	Content any // of JSON; nil: it is none
	// Queries says that it is GraphQL that runs one query, called Operation; "" if that has no name.
	Queries   bool
	Operation string
}

// QuestionOf reads what a request asks; nil if it cannot be told.
func QuestionOf(r *Request, body []byte) *Question {
	var text string
	var name *string
	q := &Question{}
	if inURL(r) {
		var asked graphQLQuery
		rest := ""
		if graphQLQueryOf(r.Query, &asked, &rest) != nil {
			return nil
		}
		text, name = asked.Query, asked.OperationName
	} else {
		if !isJSON(httprules.MediaType(r.Header.Get("Content-Type"))) || r.Header.Has("Content-Encoding") || len(body) > MaxBody {
			return nil
		}
		var ok bool
		if q.Content, ok = parsed(body); !ok {
			return nil
		}
		object, _ := q.Content.(map[string]any)
		text, _ = object["query"].(string)
		if said, is := object["operationName"].(string); is {
			name = &said
		}
	}
	document, err := parser.ParseQuery(&ast.Source{Input: text})
	if text == "" || err != nil {
		return q
	}
	said := ""
	if name != nil {
		said = *name
	}
	if onlyQuery(document, said) == nil {
		q.Queries, q.Operation = true, operationOf(document, said).Name
	}
	return q
}

// operationOf is the operation of a document that runs, which onlyQuery has found to be one.
func operationOf(document *ast.QueryDocument, name string) *ast.OperationDefinition {
	for _, operation := range document.Operations {
		if name == "" || operation.Name == name {
			return operation
		}
	}
	return nil
}
