from jondel.demo.harbour_desk.cli import main

main()
