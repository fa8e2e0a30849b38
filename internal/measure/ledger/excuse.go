package ledger

// Excuse books that a message cannot come to a client, as the trial lost it on its way there:
// if the client is owed it, nobody is to blame.
func (l *Ledger) Excuse(number uint64, c Client) {
	if !l.isKnown(number) {
		return
	}
	if r := l.rowOf(number); r != nil {
		r.excused = append(r.excused, c)
	}
}

// Twice books that a message may come to a client again, or to all who get it, as the trial
// doubled it on its way: that is no duplicate.
func (l *Ledger) Twice(number uint64, c Client, all bool) {
	if !l.isKnown(number) {
		return
	}
	if r := l.rowOf(number); r != nil {
		r.twice, r.allTwice = append(r.twice, c), r.allTwice || all
	}
}
