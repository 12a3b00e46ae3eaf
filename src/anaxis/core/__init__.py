"""The rules of the job and all its computation. Imports numpy and scipy only.

Canonical space, used by every function here unless its name says otherwise: right-handed, Y up,
metres, seconds; the camera looks along its local -Z with +Y up; column vectors; float64.
"""
