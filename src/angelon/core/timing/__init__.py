"""When a send is due: anchors, amounts, windows, whose clock."""
