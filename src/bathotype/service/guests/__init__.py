"""Work with running guests: waiting for their agent, freezing them, generalizing a throwaway clone from inside."""
