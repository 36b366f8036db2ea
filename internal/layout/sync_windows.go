package layout

// syncFolder does nothing: the system has no such call, and its renames are journalled.
func syncFolder(string) error { return nil }
