"""What is heard is rendered in a process of its own, so that nothing else that the server does can keep it waiting."""
