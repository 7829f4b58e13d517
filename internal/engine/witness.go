package engine

// Witness is what a server says of a table by ways that do not go through our reading of
// its definition: the second pair of eyes. A drill that reads back with the code that
// wrote cannot see what both are blind to.
type Witness struct {
	// Columns are all columns in the table's order, hidden and generated ones too.
	Columns []WitnessColumn `json:"columns,omitempty"`
	// Holds says how many indexes, constraints and triggers the server counts on it.
	Holds string `json:"holds,omitempty"`
	// Sample bounds the rows that the server made a digest of: the first ones by key, or
	// all, if there are no more; 0: there is no such digest.
	Sample int64 `json:"sample,omitempty"`
	// Digest is the server's own, over all columns of those rows, whatever their order.
	Digest string `json:"digest,omitempty"`
}

// WitnessColumn is a column as the server describes it.
type WitnessColumn struct {
	Name string `json:"name"`
	Says string `json:"says"` // type, default and the like, in the server's words
}

// What a sample takes: the server has to read it a second time.
const (
	sampleRows  = 1000
	sampleBytes = 16 << 20
)

// SampleOf is how many rows of a table its server is to make a digest of.
func (t *Table) SampleOf() int64 {
	if t.Rows <= 0 || t.Bytes <= 0 {
		return sampleRows
	}
	return min(sampleRows, max(10, sampleBytes/(1+t.Bytes/t.Rows)))
}
