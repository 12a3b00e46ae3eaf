"""What ``import anaxis`` gives: cameras read, changed, written for packages, proved and compared, in a few names."""
