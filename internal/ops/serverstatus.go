package ops

import (
	"fencepost/internal/control"
	"fencepost/internal/edit"
	"fencepost/store"
)

// AddSecrets adds to a status why some secrets are not there.
func (sv *Service) AddSecrets(st *control.Status) { st.Secrets = sv.Config().SecretsTrouble }

// AddStore adds to a status why nothing can be stored, and what was set aside of the store, for as long
// as it lies there.
func (sv *Service) AddStore(st *control.Status) {
	st.Unstored = sv.unstored
	for _, path := range store.SetAside(sv.Config().Store()) {
		st.SetAside = append(st.SetAside, edit.Shown(path))
	}
}
