package differing

import "math/bits"

// Weights is how many of somebody there are in each class, digit by binary digit, so that a set of classes is summed up
// word by word.
type Weights struct {
	digits [][]maskedWord
	Some   ClassSet // the classes in which there is anybody
}

// maskedWord is the classes of one word of a set that have a digit.
type maskedWord struct {
	index int
	mask  uint64
}

// newWeights takes the numbers by class, of sets of so many words.
func newWeights(numbers []int, words int) Weights {
	w := Weights{Some: make(ClassSet, words)}
	for class, n := range numbers {
		if n > 0 {
			w.Some.Add(uint32(class))
		}
		for digit := 0; n>>digit > 0; digit++ {
			if digit == len(w.digits) {
				w.digits = append(w.digits, nil)
			}
			if n>>digit&1 == 0 {
				continue
			}
			if k := len(w.digits[digit]); k == 0 || w.digits[digit][k-1].index != class/64 {
				w.digits[digit] = append(w.digits[digit], maskedWord{index: class / 64})
			}
			w.digits[digit][len(w.digits[digit])-1].mask |= 1 << (class % 64)
		}
	}
	return w
}

// Sum sums up the numbers of the classes of a set.
func (w *Weights) Sum(of ClassSet) (n int) {
	for digit, words := range w.digits {
		count := 0
		for _, word := range words {
			count += bits.OnesCount64(of[word.index] & word.mask)
		}
		n += count << digit
	}
	return n
}
