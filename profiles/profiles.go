// Package profiles holds the profiles of appliances that ship with the
// program. They are data; none speaks of a product.
package profiles

import "embed"

// Files is the profiles, NAME.yaml each, and what hypervisors call things,
// wordings/NAME.yaml.
//
//go:embed *.yaml wordings/*.yaml
var Files embed.FS

// Default is the name of the reference appliance's profile.
const Default = "reference"
