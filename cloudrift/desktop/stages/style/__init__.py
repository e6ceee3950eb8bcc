"""The style card's page: its marks on the open loop, its moves, and learning a card."""
