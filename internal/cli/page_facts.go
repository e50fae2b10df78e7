package cli
