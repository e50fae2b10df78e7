package fault_test

import (
	"fmt"
	"io/fs"

	"havvel/internal/fault"
)

func ExampleOf() {
	inner := fault.New(fault.No, "Brackwater refused the archive").Then("havvel check shows all findings")
	told := fault.Of(fmt.Errorf("sending 0.4.0: %w", inner))
	fmt.Println(told.Kind, "|", told, "|", told.Next)
	fmt.Println(fault.Of(fs.ErrPermission).Kind)
	// Output:
	// no | sending 0.4.0: Brackwater refused the archive | havvel check shows all findings
	// here
}
