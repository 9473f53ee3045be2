package system

// BeneathByHand is Beneath where the kernel has no openat2(2).
func BeneathByHand(root, rel string, do func(at string) error) error {
	return beneath(root, rel, openEach, do)
}
