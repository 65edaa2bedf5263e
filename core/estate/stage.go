package estate

import "slices"

// Stages are the stages that labels name, from the lowest to the highest.
var Stages = []string{"lab", "development", "test", "staging", Production}

// Production is the highest stage.
const Production = "production"

// stageNames are other words for stages.
var stageNames = map[string]string{"dev": "development", "sandbox": "lab", "trial": "test", "qa": "test",
	"preproduction": "staging", "acceptance": "staging", "prod": Production, "live": Production}

// Stage is the stage of a place, by its own or an inherited label. Usual synonyms are translated
// ("prod" is production), unknown values are returned as they are. It is empty without a label.
func (p Place) Stage() string {
	label, _ := p.Label("stage")
	if usual, ok := stageNames[label]; ok {
		return usual
	}
	return label
}

// StageRank is the index of a place's stage among Stages, or -1 if it is unknown.
func (p Place) StageRank() int { return slices.Index(Stages, p.Stage()) }
