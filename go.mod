module bivium

go 1.26.8

require (
	github.com/gaissmai/bart v0.30.0
	github.com/stretchr/testify v1.12.1
	go.yaml.in/yaml/v3 v3.0.6
	go4.org/netipx v0.0.0-20260823151212-3075585bcbeb
)
