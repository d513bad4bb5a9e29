package redirect

func init() {
	register(KindMove, func(m *execution) job { return &moving{copyingOf(m)} })
	register(KindMoveOn, func(m *execution) job { return &movingOn{copyingOf(m)} })
	register(KindBringBack, func(m *execution) job { return &bringingBack{copyingOf(m)} })
	register(KindMerge, func(m *execution) job { return &merging{copyingOf(m)} })
	register(KindDetach, func(m *execution) job { return &detaching{basics{m}} })
	register(KindDiscard, func(m *execution) job { return m.discarding() })
	register(KindMend, func(m *execution) job { return &mending{basics{m}} })
	register(KindRecord, func(m *execution) job { return &recording{basics{m}} })
	register(KindRestore, func(m *execution) job { return &restoring{basics{m}} })
	register(KindRenew, func(m *execution) job { return &renewing{basics: basics{m}} })
	register(KindFuture, func(m *execution) job { return &steering{basics{m}} })
	register(KindPack, func(m *execution) job { return &packing{basics: basics{m}} })
	register(KindUnpack, func(m *execution) job { return &packing{basics: basics{m}} })
	register(KindHandover, func(m *execution) job { return &handingOver{basics{m}} })
}
