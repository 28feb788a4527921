"""What is taken to other rooms: gains, corners, hits and impulse responses in open formats."""
