package main

import (
	"os"
	"strconv"

	"hiddengate/internal/shape"
)

func main() {
	n, _ := strconv.Atoi(os.Args[1])
	s := shape.Uneven(n)
	os.MkdirAll(os.Args[2], 0o755)
	if err := s.Write(os.Args[2]); err != nil {
		panic(err)
	}
}
