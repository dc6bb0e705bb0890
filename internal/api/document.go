package api

import (
	"strings"

	"yardbench/wire"

	"github.com/danielgtaylor/huma/v2"
)

// opened opens what is answered to members that come later, in the description:
// whoever was generated from it does not refuse them. What is sent to us stays
// closed, so that a slip of the pen is told. The kinds of problems are a set.
func opened(doc *huma.OpenAPI) {
	all := doc.Components.Schemas.Map()
	sent := map[string]bool{}
	var send func(s *huma.Schema)
	send = func(s *huma.Schema) {
		if s == nil {
			return
		}
		if name, ok := strings.CutPrefix(s.Ref, "#/components/schemas/"); ok {
			if !sent[name] {
				sent[name] = true
				send(all[name])
			}
			return
		}
		send(s.Items)
		for _, p := range s.Properties {
			send(p)
		}
		if more, ok := s.AdditionalProperties.(*huma.Schema); ok {
			send(more)
		}
	}
	for _, at := range doc.Paths {
		for _, o := range []*huma.Operation{at.Get, at.Put, at.Post, at.Delete, at.Patch} {
			if o != nil && o.RequestBody != nil {
				for _, m := range o.RequestBody.Content {
					send(m.Schema)
				}
			}
		}
	}
	for _, k := range wire.ProblemKinds {
		all["Problem"].Properties["type"].Enum = append(all["Problem"].Properties["type"].Enum, wire.ProblemPrefix+k.Kind)
	}
	for name, s := range all {
		if closed, ok := s.AdditionalProperties.(bool); ok && !closed && !sent[name] {
			s.AdditionalProperties = nil
		}
	}
}
