"""What concerns a person since they last looked: written where it happens, read on a page, sent by mail."""
