from jondel.cli.main import main

main()
