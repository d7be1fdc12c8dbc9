package route

import "time"

// Model is a model of handset, by its exact mark, with what is known of it.
type Model struct {
	Mark   string
	Family string
	// Keys are held for Hold to reach service mode; a model without it has none.
	Keys string
	Hold time.Duration
}

// Models are those that are supported. Marks that differ in one letter are
// different models: the keys and the service mode of one are not the other's.
var Models = []Model{
	{Mark: "OL-118", Family: "Orlop"},
	{Mark: "OL-220", Family: "Orlop"},
	{Mark: "TN-5", Family: "Tarn", Keys: "volume up and power", Hold: 3 * time.Second},
	{Mark: "TN-7", Family: "Tarn", Keys: "both volume keys", Hold: 3 * time.Second},
	{Mark: "TN-7C", Family: "Tarn", Keys: "volume down and power", Hold: 4 * time.Second},
}

// ModelByMark finds a model, nil if it is not supported.
func ModelByMark(mark string) *Model {
	for i := range Models {
		if Models[i].Mark == mark {
			return &Models[i]
		}
	}
	return nil
}
